"""Running whole commands side by side: wall seconds and peak memory, and the ratio pair by pair."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Command:
    """A command, where it runs, what it needs before each run, and exit statuses that are right."""

    name: str
    words: Sequence[str]
    folder: str = "."
    before: Callable[[], object] | None = None
    statuses: tuple[int, ...] = (0,)


@dataclass(frozen=True, slots=True)
class Run:
    """One run: wall seconds, and the peak memory of its largest process in MB."""

    seconds: float
    megabytes: float


@dataclass(frozen=True, slots=True)
class Comparison:
    """Runs of ours and of the other's, taken in turn, and the limit of their ratio."""

    title: str
    ours: list[Run]
    others: list[Run]
    other_name: str
    limit: float

    @property
    def ratio(self) -> float:
        """Median of the ratios of neighbouring runs: steady where the machine's speed drifts."""
        return statistics.median(
            a.seconds / b.seconds for a, b in zip(self.ours, self.others, strict=True)
        )

    def row(self) -> tuple[str, ...]:
        """Return the comparison as a row of the table."""
        peak = max(run.megabytes for run in self.ours)
        verdict = "within" if self.ratio <= self.limit else "OVER"
        return (
            self.title,
            f"{statistics.median(run.seconds for run in self.ours):.2f} s",
            self.other_name,
            f"{statistics.median(run.seconds for run in self.others):.2f} s",
            f"{self.ratio:.2f}",
            f"{self.limit:g}",
            verdict,
            f"{peak:.0f} MB",
        )


def run_once(command: Command) -> Run:
    """Run a command to its end, its output thrown away. Raises RuntimeError on another status."""
    if command.before:
        command.before()
    started = time.perf_counter()
    process = subprocess.Popen(
        command.words, cwd=command.folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - started
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode not in command.statuses:
        raise RuntimeError(f"{command.name} ended with status {process.returncode}")
    return Run(seconds, usage.ru_maxrss / 1024)


def compare(title: str, ours: Command, other: Command, limit: float, runs: int) -> Comparison:
    """Run both in turn, after a warm-up of each."""
    run_once(ours)
    run_once(other)
    pairs = [(run_once(ours), run_once(other)) for _ in range(runs)]
    return Comparison(title, [a for a, _ in pairs], [b for _, b in pairs], other.name, limit)


def missing_tools(names: Sequence[str]) -> list[str]:
    """Return the tools that are not installed here."""
    return [name for name in names if not shutil.which(name)]
