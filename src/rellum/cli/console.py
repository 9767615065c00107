"""The only place that prints.

People's output goes to standard output, progress and warnings to standard error. Colour only on a
terminal, and never the only sign of anything.
"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, Literal

from rellum.core.errors import UserError

if TYPE_CHECKING:
    from rellum.core.progress import Listener, Progress

MOST_DETAILS = 40
"""Lines of detail that an error shows to people; ``--json`` has all."""

Style = Literal["bold", "dim", "red", "yellow", "green", "cyan"]
_CODES: dict[Style, str] = {
    "bold": "1",
    "dim": "2",
    "red": "91",
    "yellow": "93",
    "green": "92",
    "cyan": "96",
}

# What the first column of a table says, in the colour of how much it matters.
_TONES: dict[str, Style] = {
    "new": "green",
    "back": "green",
    "mended": "green",
    "over vanilla": "yellow",
    "over": "yellow",
    "goes": "red",
    "changed": "yellow",
    "missing": "red",
    "foreign": "cyan",
    "foreign, may load": "cyan",
    "left over": "cyan",
    "vanilla changed": "yellow",
    "mod changed": "yellow",
    "other capitals": "yellow",
    "game updated": "yellow",
    "half updated": "yellow",
    "new, whose?": "cyan",
    "vanilla missing": "red",
    "mod missing": "red",
    "unknown": "yellow",
    "free": "green",
    "with others": "yellow",
    "blocked": "red",
    "taken": "green",
    "part": "cyan",
    "fetched": "green",
    "failed": "red",
    "by hand": "yellow",
}


class NeedsAnswer(UserError):
    """A question cannot be asked, because there is no terminal."""

    code = "needs-answer"


class BadCall(UserError):
    """Options or arguments do not go together."""

    code = "bad-call"


def prepare_streams() -> None:
    """Let names that are no text of this terminal be shown by their codes instead of failing."""
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")


# Control characters, escapes, and signs that turn the direction of writing: names, reasons and cards' words
# come from outside, and must not steer a terminal. Tabs and line ends are left.
_STEERING = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069]")

# What stands for the beginning of an escape of our own, until it is printed; nobody outside can know it.
_MARK = f"\x00{os.urandom(8).hex()}"
_OWN_ESCAPES = re.compile(f"{_MARK}(\\d+)m")


def harmless(text: str) -> str:
    """Return text with every sign that could steer a terminal written as a code."""
    return _STEERING.sub(_as_code, text)


def _as_code(match: re.Match[str]) -> str:
    number = ord(match.group())
    return f"\\x{number:02x}" if number < 0x100 else f"\\u{number:04x}"


def _painted(text: str) -> str:
    """Return text with our own escapes, and no others."""
    pieces = _OWN_ESCAPES.split(text)  # text, code, text, code …
    return "".join(
        f"\x1b[{piece}m" if number % 2 else harmless(piece) for number, piece in enumerate(pieces)
    )


def say(text: str = "") -> None:
    """Print a line for people."""
    print(_painted(text))


def say_indented(text: str) -> None:
    """Print lines for people, two columns in."""
    say("  " + text.replace("\n", "\n  "))


_wishes: set[str] = set()


def want_json(wished: bool) -> bool:
    """Remember to write errors as JSON documents, too; called when the option is read."""
    if wished:
        _wishes.add("json")
    return wished


def wants_json() -> bool:
    """Whether the command was asked for a JSON document."""
    return "json" in _wishes


def say_json(document: Any) -> None:
    """Print one JSON document (RFC 8259) and nothing else."""
    import json

    print(json.dumps(document, indent=2, ensure_ascii=True))


def say_csv(rows: Sequence[Sequence[str]]) -> None:
    """Print rows as comma-separated values (RFC 4180)."""
    import csv

    csv.writer(sys.stdout, lineterminator="\n").writerows(rows)


def note(text: str) -> None:
    """Print on standard error what is going on."""
    sys.stdout.flush()
    print(_painted(text), file=sys.stderr)


def warn(text: str) -> None:
    """Print a warning on standard error."""
    note(f"{_styled('warning:', 'yellow', sys.stderr)} {text}")


def show_error(summary: str, details: Sequence[str], hint: str) -> None:
    """Print what is wrong, each fault on its line, and what to do."""
    note(f"{_styled('error:', 'red', sys.stderr)} {summary}")
    for detail in details[:MOST_DETAILS]:
        note("  " + detail.replace("\n", "\n  "))
    if len(details) > MOST_DETAILS:
        note(f"  … and {len(details) - MOST_DETAILS:,} more")
    if hint:
        note(f"{_styled('hint:', 'bold', sys.stderr)} {hint}")


def styled(text: str, style: Style) -> str:
    """Return text for standard output in a style, where that is a terminal."""
    return _styled(text, style, sys.stdout)


def _styled(text: str, style: Style, stream: Any) -> str:
    if not stream.isatty() or os.environ.get("NO_COLOR"):
        return text
    return f"{_MARK}{_CODES[style]}m{text}{_MARK}0m"


def table(
    headings: Sequence[str], rows: Sequence[Sequence[str]], right: Sequence[int] = ()
) -> None:
    """Print rows in aligned columns; ``right`` numbers the columns that align to the right.

    Where a terminal is too narrow, long cells of the last column fold; piped, no line is ever broken.
    """
    cells = [tuple(map(one_line, row)) for row in rows]
    widths = [max(map(_width, column)) for column in zip(headings, *cells, strict=True)]
    room = _terminal_width()
    if room is not None and sum(widths) + 2 * (len(widths) - 1) > room:
        _folded_table(headings, cells, right)
        return
    say(styled(_aligned(headings, widths, right), "dim"))
    for row in cells:
        line = _aligned(row, widths, right)
        tone = _TONES.get(row[0])
        say(line.replace(row[0], styled(row[0], tone), 1) if tone else line)


def _width(text: str) -> int:
    """Return how many columns a text takes on a terminal."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def _terminal_width() -> int | None:
    """Return the columns of the terminal; None where the output goes elsewhere."""
    if not sys.stdout.isatty():
        return None
    import shutil

    return shutil.get_terminal_size().columns


def _aligned(cells: Sequence[str], widths: Sequence[int], right: Sequence[int]) -> str:
    padded = []
    for position, (cell, width) in enumerate(zip(cells, widths, strict=True)):
        blanks = " " * (width - _width(cell))
        padded.append(blanks + cell if position in right else cell + blanks)
    return "  ".join(padded).rstrip()


def _folded_table(
    headings: Sequence[str], rows: Sequence[Sequence[str]], right: Sequence[int]
) -> None:
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    grid = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    for position, heading in enumerate(headings):
        grid.add_column(
            heading,
            justify="right" if position in right else "left",
            no_wrap=position < len(headings) - 1,
            overflow="fold",
        )
    for first, *others in rows:
        tone = _TONES.get(first)
        grid.add_row(Text(first, style=f"bright_{tone}" if tone else ""), *map(Text, others))
    console = Console(file=sys.stdout, highlight=False, soft_wrap=False)
    with console.capture() as capture:
        console.print(grid)
    # The escapes in it are the library's, for our styles; the cells had none.
    print("\n".join(line.rstrip() for line in capture.get().splitlines()))


def one_line(cell: str) -> str:
    """Return text that cannot leave its line."""
    return harmless(cell).replace("\n", "\\n").replace("\t", "\\t")


def facts(pairs: Sequence[tuple[str, str]]) -> None:
    """Print name and value pairs, indented, the values aligned."""
    width = max(len(name) for name, _ in pairs)
    for name, value in pairs:
        say(f"  {styled(name.ljust(width), 'dim')}  {value}")


def confirm(question: str, *, yes: bool, what: str = "this changes the game folder") -> bool:
    """Ask on the terminal; ``yes`` answers for the user. Raises NeedsAnswer without a terminal.

    ``what`` says in that error why an answer is needed.
    """
    if yes:
        return True
    if not sys.stdin.isatty():
        raise NeedsAnswer(
            f"{what} and needs your answer",
            hint="Run it in a terminal, or add --yes.",
        )
    sys.stdout.flush()
    print(f"{harmless(question)} [y/N] ", end="", file=sys.stderr, flush=True)
    answer = sys.stdin.readline().strip().lower()
    return answer in ("y", "yes")


def is_interactive() -> bool:
    """Whether somebody can answer a question."""
    return sys.stdin.isatty()


def ask(question: str, default: str = "") -> str:
    """Let the user type an answer on the terminal; ``default`` where nothing is typed or nobody is there."""
    if not sys.stdin.isatty():
        return default
    sys.stdout.flush()
    shown = f" [{harmless(default)}]" if default else ""
    print(f"{harmless(question)}{shown} ", end="", file=sys.stderr, flush=True)
    return sys.stdin.readline().strip() or default


def choose(question: str, choices: Sequence[str], *, likeliest_first: bool = False) -> str | None:
    """Let the user choose one on the terminal, by number or name; None where nobody is there.

    ``likeliest_first``: nothing typed means the first.
    """
    if not sys.stdin.isatty():
        return None
    sys.stdout.flush()
    print(harmless(question), file=sys.stderr)
    for number, choice in enumerate(choices, 1):
        print(f"  {number}  {harmless(choice)}", file=sys.stderr)
    while True:
        asked = "[1] " if likeliest_first else f"[1-{len(choices)}] "
        print(asked, end="", file=sys.stderr, flush=True)
        line = sys.stdin.readline()
        if not line:
            return None
        answer = line.strip() or ("1" if likeliest_first else "")
        if answer in choices:
            return answer
        if answer.isdecimal() and len(answer) < 10 and 1 <= int(answer) <= len(choices):
            return choices[int(answer) - 1]


@contextmanager
def progress() -> Iterator[Listener]:
    """Show how far the work is, on a terminal; stay quiet when piped."""
    if not sys.stderr.isatty():
        from rellum.core.progress import silent

        yield silent
        return
    line = _ProgressLine()
    _lines.append(line)
    try:
        yield line.show
    finally:
        line.clear()
        _lines.remove(line)


_lines: list[_ProgressLine] = []


def clear_progress() -> None:
    """Wipe what is shown of progress, before something else is said while work goes on."""
    for line in _lines:
        line.clear()


class _ProgressLine:
    """One line that is written over: stage, files, bytes, rate, time left."""

    def __init__(self) -> None:
        import time

        self._clock = time.monotonic
        self._started: dict[str, float] = {}
        self._files: dict[str, int] = {}
        self._shown_at = 0.0
        self._length = 0

    def show(self, now: Progress) -> None:
        """Show the progress, at most ten times a second."""
        moment = self._clock()
        if now.files < self._files.get(now.stage, 0):  # the same again, of other files
            del self._started[now.stage]
        self._files[now.stage] = now.files
        started = self._started.setdefault(now.stage, moment)
        if moment - self._shown_at < 0.1 or moment - started < 0.3:
            return
        self._shown_at = moment
        parts = [now.stage]
        if now.total_files:
            parts.append(f"{now.files:,} of {now.total_files:,} files")
        rate = now.bytes / (moment - started)
        if now.bytes or now.total_bytes:
            of_all = f" of {bytes_text(now.total_bytes)}" if now.total_bytes else ""
            parts.append(f"{bytes_text(now.bytes)}{of_all}")
        if rate:
            parts.append(f"{bytes_text(int(rate))}/s")
        if rate and now.total_bytes:
            left = max(0, now.total_bytes - now.bytes) / rate
            parts.append(f"{int(left) // 60}:{int(left) % 60:02} left")
        text = "  ".join(parts)
        print("\r" + text.ljust(self._length), end="", file=sys.stderr, flush=True)
        self._length = len(text)

    def clear(self) -> None:
        """Wipe the line."""
        if self._length:
            print("\r" + " " * self._length + "\r", end="", file=sys.stderr, flush=True)
            self._length = 0


def bytes_text(count: int) -> str:
    """Return a number of bytes for people, in decimal units: ``48.2 kB``."""
    size = float(count)
    for unit in ("B", "kB", "MB", "GB"):
        if size < 999.95 or unit == "GB":
            break
        size /= 1000
    return f"{count:,} B" if unit == "B" else f"{size:,.1f} {unit}"


def moment_text(at: str) -> str:
    """Return a time (RFC 3339, UTC) as people read it: ``2026-03-14 19:02:11``."""
    return at.replace("T", " ").removesuffix("Z")


def count_text(count: int, one: str, many: str = "") -> str:
    """Return a number with its noun: ``1 file``, ``12 files``."""
    return f"{count:,} {one if count == 1 else many or one + 's'}"
