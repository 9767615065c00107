"""How far a fetch is, on a terminal: a line for the whole and one for each file that is on its way."""

from __future__ import annotations

import shutil
import sys
import threading
import time
from collections import deque
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.core.fetching.model import FetchProgress, FileProgress

MOST_FILES = 8
SECONDS_BETWEEN = 0.1
RATE_SECONDS = 3.0
"""A rate is that of the last so many seconds."""

_SPEED_COLUMNS = len("999.9 kB/s  59:59 left")


class FetchView:
    """Draws the progress over itself; silent where nobody looks."""

    def __init__(self) -> None:
        self._looked_at = sys.stderr.isatty()
        self._lock = threading.Lock()
        self._drawn_at = 0.0
        self._lines = 0
        self._samples: dict[str, deque[tuple[float, int]]] = {}

    def show(self, progress: FetchProgress) -> None:
        """Draw the progress, at most ten times a second. Called by several threads."""
        if not self._looked_at:
            return
        with self._lock:
            now = time.monotonic()
            for file in progress.files:
                self._sample(file.name, now, file.done)
            done = sum(file.done for file in progress.files)
            self._sample("", now, done)
            if now - self._drawn_at < SECONDS_BETWEEN:
                return
            self._drawn_at = now
            self._draw(self._whole(progress, done), self._rows(progress))

    def clear(self) -> None:
        """Wipe what was drawn."""
        with self._lock:
            if self._looked_at:
                self._draw("", [])
            self._looked_at = False

    def _sample(self, name: str, now: float, done: int) -> None:
        samples = self._samples.setdefault(name, deque([(now, done)]))
        if done < samples[-1][1]:
            samples.clear()  # it began again
        samples.append((now, done))
        while len(samples) > 2 and now - samples[0][0] > RATE_SECONDS:
            samples.popleft()

    def _rate(self, name: str) -> float:
        (began, first), (ended, last) = self._samples[name][0], self._samples[name][-1]
        return (last - first) / (ended - began) if ended > began else 0.0

    def _whole(self, progress: FetchProgress, done: int) -> str:
        ended = sum(file.state in ("fetched", "failed") for file in progress.files)
        totals = [file.total for file in progress.files]
        whole = sum(total for total in totals if total)
        at_least = "at least " if None in totals else ""
        parts = [
            f"{ended} of {console.count_text(len(totals), 'file')}",
            f"{console.bytes_text(done)} of {at_least}{console.bytes_text(whole)}",
            *self._speed("", done, whole),
        ]
        return "  ".join(parts)

    def _rows(self, progress: FetchProgress) -> list[tuple[str, ...]]:
        active = [
            file for file in progress.files if file.state in ("fetching", "waiting", "checking")
        ]
        return [self._row(file) for file in active[:MOST_FILES]]

    def _row(self, file: FileProgress) -> tuple[str, ...]:
        size = console.bytes_text(file.done)
        percent = ""
        if file.total:
            size += f" of {console.bytes_text(file.total)}"
            percent = f"{min(100, file.done * 100 // file.total)} %"
        words = file.words
        if file.state == "fetching":
            speed = "  ".join(self._speed(file.name, file.done, file.total or 0))
            words = f"{speed:<{_SPEED_COLUMNS}}  {words}"
        return (file.state, file.name, percent, size, words)

    def _speed(self, name: str, done: int, total: int) -> list[str]:
        rate = self._rate(name)
        if rate < 1:
            return []
        left = int(max(0, total - done) / rate)
        return [f"{console.bytes_text(int(rate))}/s", f"{left // 60}:{left % 60:02} left"]

    def _draw(self, whole: str, rows: Sequence[tuple[str, ...]]) -> None:
        width = shutil.get_terminal_size().columns - 1
        widths = [max(map(len, column)) for column in zip(*rows, strict=True)]
        lines = [whole] if whole else []
        for row in rows:
            cells = [
                cell.rjust(room) if position in (2, 3) else cell.ljust(room)
                for position, (cell, room) in enumerate(zip(row, widths, strict=True))
            ]
            lines.append("  " + "  ".join(cells).rstrip())
        up = f"\x1b[{self._lines}A" if self._lines else ""
        wiped = "".join(f"\x1b[2K{console.harmless(line)[:width]}\n" for line in lines)
        # What was longer before is wiped to the end of the screen.
        sys.stderr.write(f"{up}\r{wiped}\x1b[J")
        sys.stderr.flush()
        self._lines = len(lines)
