"""Run the commands of docs/guide.md in the demo: ``python -m tools.guide_outputs`` writes their answers.

A line that is just ``…`` stands for any lines; answers that have one keep it. Times, free space and folders
of the machine are shown as in every other run.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass

from rellum.demo.world import make

GUIDE = os.path.join(
    os.path.dirname(os.path.dirname(os.path.abspath(__file__))), "docs", "guide.md"
)
ANY = "…"
_BLOCK = re.compile(r"^```console\n(.*?)^```$", re.MULTILINE | re.DOTALL)
_GROUP = "[0-9a-hjkmnp-tv-z]{4}"
"""Of a text that two people compare, or a feed's fingerprint."""
_MOST = 14
"""Lines of an answer that a new block shows."""


@dataclass(frozen=True, slots=True)
class Shown:
    """A command in the guide, and the lines under it."""

    command: str
    lines: tuple[str, ...]


def blocks(text: str) -> Iterator[list[Shown]]:
    """Yield the commands of each block with what the guide shows of their answers."""
    for block in _BLOCK.finditer(text):
        found: list[Shown] = []
        for line in block[1].splitlines():
            if line.startswith("$ "):
                found.append(Shown(line[2:], ()))
            else:
                found[-1] = Shown(found[-1].command, (*found[-1].lines, line))
        yield found


class Story:
    """The demo's pack in a new folder, in which commands are run one after another."""

    def __init__(self, folder: str) -> None:
        self._home = os.path.join(os.path.realpath(folder), "you")
        os.makedirs(self._home)
        self._places = make(os.path.join(self._home, "sea"))

    def run(self, command: str) -> list[str]:
        """Return what a command says, its times and places as in every other run."""
        pack = self._places.folder("pack")
        program = f'"{sys.executable}" -m rellum'
        done = subprocess.run(
            re.sub(r"^rellum\b", lambda _: program, command),
            shell=True,
            cwd=pack,
            env={
                **os.environ,
                "RELLUM_SHELF": self._places.folder("shelf"),
                "RELLUM_CACHE": os.path.join(self._places.folder("shelf"), "cache"),
                "PYTHONUTF8": "1",
                "TZ": "UTC",
                "RELLUM_KEYS": os.path.join(self._home, ".local", "share", "rellum", "feed-keys"),
                "RELLUM_KEY_PASSWORD": "high tide at noon",
                "HOME": self._home,
                "COLUMNS": "100",
            },
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            check=False,
        )
        text = done.stdout.replace(self._home, "/home/you")
        text = re.sub(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d", "2026-03-14 19:02:11", text)
        text = re.sub(r"\b20(?!26-03-14)\d\d-\d\d-\d\d\b", "2026-03-14", text)
        text = re.sub(r"[\d.,]+ GB free|free [\d.,]+ GB", lambda m: _free(m[0]), text)
        text = re.sub(rf"\b{_GROUP}(-{_GROUP}){{4}}\b", "7ek6-rj31-04ye-5zbv-jvhy", text)
        text = re.sub(r"after [\d.]+ s", "after 0.1 s", text)
        return text.rstrip("\n").split("\n") if text.strip() else []


def _free(words: str) -> str:
    return "free 80.0 GB" if words.startswith("free") else "80.0 GB free"


def fits(shown: tuple[str, ...], told: list[str]) -> bool:
    """Whether an answer is what the guide shows; ``…`` stands for any lines."""
    pattern = "".join("(?:.*\n)*" if line == ANY else f"{re.escape(line)}\n" for line in shown)
    return re.fullmatch(pattern, "".join(f"{line.rstrip()}\n" for line in told)) is not None


def main() -> None:
    """Write the answers into the guide."""
    with open(GUIDE, encoding="utf-8") as file:
        text = file.read()
    with tempfile.TemporaryDirectory() as folder:
        story = Story(folder)

        def filled(block: re.Match[str]) -> str:
            lines = ["```console"]
            for shown in next(iter(blocks(block[0]))):
                told = [line.rstrip() for line in story.run(shown.command)]
                lines.append(f"$ {shown.command}")
                if fits(shown.lines, told) and shown.lines:
                    lines += shown.lines
                else:
                    lines += told if len(told) <= _MOST else [*told[:_MOST], ANY]
            return "\n".join([*lines, "```"])

        text = _BLOCK.sub(filled, text)
    with open(GUIDE, "w", encoding="utf-8", newline="\n") as file:
        file.write(text)


if __name__ == "__main__":
    main()
