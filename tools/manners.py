"""Run every command in every dress, and look for bad manners: ``python -m tools.manners``. Not on Windows.

The dresses: a terminal of 60, 80, 100 and 140 columns, piped, ``TERM=dumb``, ``NO_COLOR``, a locale that
is not UTF-8, ``--json``, a closed output, and with a mistake. Looked for: tracebacks, unknown exit
statuses, lines that are wider than the terminal, words that are cut, escapes where there should be none,
errors without a hint, and documents that break their schema. Ends with 1 where something was found.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import pty
import re
import struct
import subprocess
import sys
import tempfile
import termios
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from rellum.demo.world import DemoPlaces, make
from tests.support import check_document

LOOKS = (
    "status", "list", "list --catalog", "list --form markdown", "compare 1", "compare main vanilla",
    "conflicts", "preview", "decide", "graft", "variant", "check", "checkpoint --list", "sweep --list",
    "kept", "resolve", "why keelson", "why tidal-currents 4.0", "news", "outlook", "vet", "shelf",
    "history", "space", "backup list", "backup show", "backup compare", "identify ../game", "guide --list",
    "describe ../site/LongSwell-1.0.zip", "report health.html", "--help",
    "apply --help", "fetch --export missing.meta4", "shelf check", "completion bash", "guide errors",
)  # fmt: skip
MISTAKES = (
    "install", "statsu", "status --jsn", "want", "want tidl-currents", "drop nothing", "hold keelson",
    "why nothing", "apply --newest", "restore", "restore nothing.dat", "restore --all", "rewind nowhere",
    "variant use nowhere", "backup show nothing", "kept back 99", "sweep --back nothing", "compare nowhere",
    "decide nothing", "decide trust maybe", "graft x", "take nowhere.zip", "shelf drop nothing",
    "guard maybe", "trial maybe", "play --limit 0", "hunt --answer works", "report x.txt", "space --free x",
    "outlook --figure x.doc", "identify nowhere", "assemble out nowhere", "adopt nowhere",
    "history --since x",
    "checkpoint --forget x", "describe nowhere", "list --form x", "vet nowhere", "guide nowhere",
    "completion nothing", "demo .", "news nothing", "fetch --tries 0", "absorb", "status --pack nowhere",
)  # fmt: skip
READY = (
    "adopt ../game --catalog ../catalog", "take ../site --each",
    "decide place settings ../player/settings", "want tidal-currents@3+ clear-water brasswork",
    "want lagoon-lights =1.0 --option glow=bright", "hold clear-water 2.0 --reason nicer", "resolve",
    "apply --yes", "checkpoint calm --good", "backup make first", "play --outcome log",
)  # fmt: skip
PAGES = ("guide errors", "completion bash", "describe ../site/LongSwell-1.0.zip", "restore --all")
"""What is printed with lines of its own length, to be pasted; and a question, which only a terminal sees."""
WIDTHS = (60, 80, 100, 140)
_ESCAPE = re.compile(r"\x1b\[[0-9;]*m")


@dataclass
class Manners:
    """What was run, and what was found."""

    places: DemoPlaces
    counts: Counter[str] = field(default_factory=Counter)
    found: list[str] = field(default_factory=list)

    def environment(self, more: dict[str, str]) -> dict[str, str]:
        """Return the environment of a call."""
        shelf = self.places.folder("shelf")
        plain = {key: value for key, value in os.environ.items() if key not in ("NO_COLOR",)}
        cache = os.path.join(shelf, "cache")
        return {**plain, "RELLUM_SHELF": shelf, "RELLUM_CACHE": cache, "TERM": "xterm", **more}

    def run(self, call: str, **more: str) -> subprocess.CompletedProcess[str]:
        """Run a call, piped."""
        return subprocess.run(
            [sys.executable, "-m", "rellum", *call.split()],
            cwd=self.places.folder("pack"),
            env=self.environment(more),
            stdin=subprocess.DEVNULL,
            capture_output=True,
            encoding="utf-8",
            errors="replace",
            check=False,
        )

    def at_terminal(self, call: str, columns: int) -> tuple[int, str]:
        """Run a call in a terminal of so many columns."""
        child, terminal = pty.fork()
        if child == 0:
            os.chdir(self.places.folder("pack"))
            environment = self.environment({"COLUMNS": str(columns)})
            os.execve(sys.executable, [sys.executable, "-m", "rellum", *call.split()], environment)
        fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 40, columns, 0, 0))
        os.write(terminal, b"\x04" * 9)  # nobody answers
        shown = b""
        with contextlib.suppress(OSError):
            while piece := os.read(terminal, 1 << 16):
                shown += piece
        os.close(terminal)
        status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        return status, shown.decode("utf-8", "replace").replace("\r", "")

    def note(self, call: str, dress: str, faults: Iterator[str]) -> None:
        """Count a run, and what it shows of bad manners."""
        self.counts["runs"] += 1
        for fault in faults:
            self.counts[fault.partition(":")[0]] += 1
            self.found.append(fault)
            print(f"{dress:12} rellum {call}: {fault}", flush=True)

    def look(self, call: str) -> None:
        """Run a call in every dress; a mistake only piped, in a narrow terminal, and with ``--json``."""
        piped = self.run(call)
        words = set(re.findall(r"\S+", piped.stdout + piped.stderr))
        self.note(call, "piped", _faults(piped.returncode, piped.stdout + piped.stderr))
        is_mistake = call in MISTAKES
        is_page = "help" in call or "--form" in call or call in PAGES
        for columns in WIDTHS[: 1 if is_mistake else None]:
            status, shown = self.at_terminal(call, columns)
            self.note(
                call, str(columns), _terminal_faults(status, shown, columns, words, is_page=is_page)
            )
        for dress, more in (
            ("dumb", {"TERM": "dumb"}),
            ("no colour", {"NO_COLOR": "1", "CLICOLOR_FORCE": "1"}),
            ("ASCII", {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"}),
        )[: 0 if is_mistake else None]:
            done = self.run(call, **more)
            self.note(call, dress, _faults(done.returncode, done.stdout + done.stderr))
        closed = subprocess.run(
            ["sh", "-c", f'"{sys.executable}" -m rellum {call} >&-'],
            cwd=self.places.folder("pack"),
            env=self.environment({}),
            stdin=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            text=True,
            check=False,
        )
        self.note(call, "closed", _faults(closed.returncode, closed.stderr))
        if (
            "help" not in call
            and "--form" not in call
            and "install" not in call
            and "statsu" not in call
        ):
            done = self.run(f"{call} --json")
            self.note(call, "--json", _document_faults(call, done))


def _faults(status: int, text: str) -> Iterator[str]:
    """Yield what is wrong with an answer that went to no terminal."""
    yield from _any_faults(status, text)
    if "\x1b" in text:
        yield "escape: where there should be none"


def _any_faults(status: int, text: str) -> Iterator[str]:
    if "Traceback" in text:
        yield f"traceback: {text.strip().splitlines()[-1]}"
    if status not in (0, 1, 2, 141):
        yield f"exit status: {status}"
    if "error: " in text and "hint: " not in text:
        yield f"no hint: {text.strip().splitlines()[-1][:80]}"
    if status == 2 and "error: " not in text:
        yield f"no error: {text.strip().splitlines()[:1]}"


def _terminal_faults(
    status: int, shown: str, columns: int, words: set[str], *, is_page: bool
) -> Iterator[str]:
    """Yield what is wrong at a terminal; a page, or a script, has lines of its own length."""
    text = _ESCAPE.sub("", shown)
    yield from _any_faults(status, text)
    if is_page:
        return
    for line in text.splitlines():
        longest = max(map(len, line.split()), default=0)
        if len(line) > columns and longest + len(line) - len(line.lstrip()) < columns:
            yield f"too wide: {line[:60]}"
    for word in re.findall(r"\S+", text):
        if word not in words and "…" not in word and not re.search(r"\d", word):
            yield f"cut word: {word}"


def _document_faults(call: str, done: subprocess.CompletedProcess[str]) -> Iterator[str]:
    yield from (
        fault for fault in _any_faults(done.returncode, done.stderr) if "no error" not in fault
    )
    try:
        check_document(call.split()[0], done.stdout)
    except Exception as error:
        yield f"document: {str(error).splitlines()[0][:80]}"


def main(only: Sequence[str]) -> int:
    """Run all, or the calls that begin with some words; return 1 where something was found."""
    with tempfile.TemporaryDirectory() as folder:
        manners = Manners(make(os.path.join(folder, "demo")))
        for call in READY:
            done = manners.run(call)
            assert done.returncode == 0, (call, done.stdout, done.stderr)
        for call in (*LOOKS, *MISTAKES):
            if not only or call.startswith(tuple(only)):
                manners.look(call)
    others = [f"{count} {name}" for name, count in manners.counts.items() if name != "runs"]
    print(f"{manners.counts['runs']} runs: {', '.join(others) or 'nothing found'}")
    return 1 if manners.found else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
