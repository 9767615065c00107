"""How fast work goes, in a line."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli.numbers import bytes_text

if TYPE_CHECKING:
    from rellum.core.progress import Progress


_TELLS_A_RATE = 0.5
"""Seconds; before, a rate is only noise."""


class Pace:
    """How fast the stages of some work go, as one line says it: files, bytes, rate, time left."""

    def __init__(self) -> None:
        import time

        self.clock = time.monotonic
        self._started: dict[str, float] = {}
        self._seen: dict[str, tuple[int, int]] = {}

    def begun(self, now: Progress) -> float:
        """Return when the stage began."""
        files, size = self._seen.get(now.stage, (0, 0))
        if now.files < files or now.bytes < size:  # the same again, of other files
            del self._started[now.stage]
        self._seen[now.stage] = (now.files, now.bytes)
        return self._started.setdefault(now.stage, self.clock())

    def text(self, now: Progress, seconds: float) -> str:
        """Return the line, after so many seconds of the stage."""
        parts = [now.stage]
        if now.total_files:
            parts.append(f"{now.files:,} of {now.total_files:,} files")
        if now.bytes or now.total_bytes:
            of_all = f" of {bytes_text(now.total_bytes)}" if now.total_bytes else ""
            parts.append(f"{bytes_text(now.bytes)}{of_all}")
        rate = now.bytes / seconds if seconds >= _TELLS_A_RATE else 0
        if rate:
            parts.append(f"{bytes_text(int(rate))}/s")
        if now.total_bytes and rate:
            left = max(0, now.total_bytes - now.bytes) / rate
            parts.append(f"{int(left) // 60}:{int(left) % 60:02} left")
        elif now.total_files and now.files and seconds > 0:
            left = (now.total_files - now.files) * seconds / now.files
            parts.append(f"{int(left) // 60}:{int(left) % 60:02} left")
        return "  ".join(parts)
