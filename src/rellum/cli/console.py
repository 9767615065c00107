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

from rellum.cli.numbers import bytes_text as bytes_text
from rellum.cli.numbers import count_text as count_text
from rellum.cli.numbers import moment_text as moment_text
from rellum.cli.pace import Pace
from rellum.core.errors import UserError

if TYPE_CHECKING:
    from rellum.core.progress import Listener, Progress

SECONDS_BETWEEN_LINES = 10
"""How often progress is told where it cannot be shown on a line that is written over."""

MOST_DETAILS = 40
"""Lines of detail that an error shows to people; ``--json`` has all."""

Style = Literal["bold", "dim", "red", "yellow", "green", "cyan"]
_CODES: dict[Style, str] = {
    "bold": "1",
    "dim": "2",
    "red": "31",
    "yellow": "33",
    "green": "32",
    "cyan": "36",
}  # not the bright ones: themes make these readable on dark and on light

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


class OutputGone(Exception):
    """What reads the output has gone: a closed pipe."""


class BadCall(UserError):
    """Options or arguments do not go together."""

    code = "bad-call"


def prepare_streams() -> None:
    """Let names that are no text of this terminal be shown by their codes instead of failing.

    A stream that was closed before the start is one that swallows all.
    """
    for name in ("stdin", "stdout", "stderr"):
        if getattr(sys, name) is None:
            mode = "r" if name == "stdin" else "w"
            setattr(sys, name, open(os.devnull, mode, encoding="utf-8"))  # noqa: SIM115  # till the end
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
    """Print a line for people, wrapped at words on a terminal; nothing where a program wants a document."""
    if not wants_json():
        _put(_painted(_wrapped(text, sys.stdout)))


def _put(text: str) -> None:
    try:
        print(text)
    except BrokenPipeError as error:
        raise OutputGone from error  # an OSError would be taken for one of the work


def _wrapped(text: str, stream: Any) -> str:
    """Return text whose lines fit the terminal; as it is where the stream is none."""
    if not stream.isatty():
        return text
    import shutil

    room = shutil.get_terminal_size().columns
    lines: list[str] = []
    for line in text.split("\n"):
        lines += _wrapped_line(line, room) if len(line) > room else [line]
    return "\n".join(lines)


def _wrapped_line(line: str, room: int) -> list[str]:
    from rellum.cli.tables import width_of

    text = line.lstrip(" ")
    indent = line[: len(line) - len(text)]
    further = f"{indent}  " if indent else ""
    first, *words = text.split(" ")
    found = [indent + first]
    width = len(indent) + width_of(_OWN_ESCAPES.sub("", first))
    for word in words:
        length = width_of(_OWN_ESCAPES.sub("", word))
        if word and width + 1 + length > room:
            found.append(further + word)
            width = len(further) + length
        else:
            found[-1] += f" {word}"
            width += 1 + length
    return [each.rstrip() for each in found]


def say_page(text: str) -> None:
    """Print a page as it is; its lines have their own length."""
    if not wants_json():
        _put(_painted(text.rstrip("\n")))


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
    """Print one JSON document (RFC 8259) and nothing else; it begins with its format."""
    from rellum.cli.document_format import document_text

    _put(document_text(document))


def say_csv(rows: Sequence[Sequence[str]]) -> None:
    """Print rows as comma-separated values (RFC 4180)."""
    import csv

    try:
        csv.writer(sys.stdout, lineterminator="\n").writerows(rows)
    except BrokenPipeError as error:
        raise OutputGone from error


def note(text: str) -> None:
    """Print on standard error what is going on."""
    sys.stdout.flush()
    print(_painted(_wrapped(text, sys.stderr)), file=sys.stderr)


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
        first, *others = hint.split("\n")
        note(f"{_styled('hint:', 'bold', sys.stderr)} {first}")
        for line in others:
            note(line if line.startswith(" ") else f"      {line}")


def styled(text: str, style: Style) -> str:
    """Return text for standard output in a style, where that is a terminal."""
    return _styled(text, style, sys.stdout)


def _styled(text: str, style: Style, stream: Any) -> str:
    if not _has_colour(stream):
        return text
    return f"{_MARK}{_CODES[style]}m{text}{_MARK}0m"


def _has_colour(stream: Any) -> bool:
    """Whether a stream takes colour: the common variables decide, then what it is."""
    if os.environ.get("NO_COLOR"):
        return False
    if os.environ.get("CLICOLOR_FORCE", "0") not in ("", "0"):
        return True
    return bool(stream.isatty()) and not _is_dumb()


def _is_dumb() -> bool:
    """Whether the terminal says that it knows no escapes, nor to go back on a line."""
    return os.environ.get("TERM") == "dumb"


def table(
    headings: Sequence[str], rows: Sequence[Sequence[str]], right: Sequence[int] = ()
) -> None:
    """Print rows in aligned columns; ``right`` numbers the columns that align to the right.

    Where a terminal is too narrow, long cells wrap; piped, no line is ever broken.
    """
    if wants_json():
        return
    from rellum.cli.tables import lay_out

    cells = [tuple(map(one_line, row)) for row in rows]
    layout = lay_out(headings, cells, right, _terminal_width())
    for line in layout.heading:
        say(styled(line, "dim"))
    for row, lines in zip(cells, layout.rows, strict=True):
        tone = _TONES.get(row[0])
        first, *others = lines
        say(first.replace(row[0], styled(row[0], tone), 1) if tone else first)
        for line in others:
            say(line)


def _terminal_width() -> int | None:
    """Return the columns of the terminal; None where the output goes elsewhere."""
    if not sys.stdout.isatty():
        return None
    import shutil

    return shutil.get_terminal_size().columns


def one_line(cell: str) -> str:
    """Return text that cannot leave its line."""
    return harmless(cell).replace("\n", "\\n").replace("\t", "\\t")


def facts(pairs: Sequence[tuple[str, str]]) -> None:
    """Print name and value pairs, indented, the values aligned."""
    width = max(len(name) for name, _ in pairs)
    room = _terminal_width()
    for name, value in pairs:
        lines = [value]
        if room is not None and width + 4 + len(value) > room:
            from rellum.cli.tables import fold

            lines = fold(value, max(20, room - width - 4))
        say(f"  {styled(name.ljust(width), 'dim')}  {lines[0]}")
        for line in lines[1:]:
            say(f"  {' ' * width}  {line}")


def confirm(question: str, *, yes: bool, what: str = "this changes the game folder") -> bool:
    """Ask on the terminal; ``yes`` answers for the user. Raises NeedsAnswer without a terminal.

    ``what`` says in that error why an answer is needed.
    """
    if yes:
        return True
    if not is_interactive():
        raise NeedsAnswer(
            f"{what} and needs your answer",
            hint="Run it in a terminal, or add --yes.",
        )
    sys.stdout.flush()
    print(f"{harmless(question)} [y/N] ", end="", file=sys.stderr, flush=True)
    answer = sys.stdin.readline().strip().lower()
    return answer in ("y", "yes")


def is_interactive() -> bool:
    """Whether somebody can answer a question: at a terminal, and not where a program wants a document."""
    return sys.stdin.isatty() and not wants_json()


def ask(question: str, default: str = "") -> str:
    """Let the user type an answer on the terminal; ``default`` where nothing is typed or nobody is there."""
    if not is_interactive():
        return default
    sys.stdout.flush()
    shown = f" [{harmless(default)}]" if default else ""
    print(f"{harmless(question)}{shown} ", end="", file=sys.stderr, flush=True)
    return sys.stdin.readline().strip() or default


def choose(question: str, choices: Sequence[str], *, likeliest_first: bool = False) -> str | None:
    """Let the user choose one on the terminal, by number or name; None where nobody is there.

    ``likeliest_first``: nothing typed means the first.
    """
    if not is_interactive():
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
    """Show how far the work is: on a line that is written over, or, when piped, a line every ten seconds."""
    if not sys.stderr.isatty() or _is_dumb():
        yield _Lines().show
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


class _Lines:
    """A line every ten seconds, for output that goes to a file or another program."""

    def __init__(self) -> None:
        self._pace = Pace()
        self._told_at = self._pace.clock()

    def show(self, now: Progress) -> None:
        """Tell the progress, if the last line is ten seconds old."""
        begun, moment = self._pace.begun(now), self._pace.clock()
        if moment - self._told_at >= SECONDS_BETWEEN_LINES:
            self._told_at = moment
            note(self._pace.text(now, moment - begun))


class _ProgressLine:
    """One line that is written over."""

    def __init__(self) -> None:
        self._pace = Pace()
        self._shown_at = 0.0
        self._length = 0

    def show(self, now: Progress) -> None:
        """Show the progress, at most ten times a second."""
        begun, moment = self._pace.begun(now), self._pace.clock()
        if moment - self._shown_at < 0.1 or moment - begun < 0.3:
            return
        self._shown_at = moment
        text = self._pace.text(now, moment - begun)
        print("\r" + text.ljust(self._length), end="", file=sys.stderr, flush=True)
        self._length = len(text)

    def clear(self) -> None:
        """Wipe the line."""
        if self._length:
            print("\r" + " " * self._length + "\r", end="", file=sys.stderr, flush=True)
            self._length = 0
