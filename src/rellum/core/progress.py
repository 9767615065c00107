"""How the core reports the progress of long work, without knowing who listens."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple


class Progress(NamedTuple):
    """How far one stage of the work is. Totals are 0 where they are not known."""

    stage: str
    files: int
    total_files: int
    bytes: int
    total_bytes: int


Listener = Callable[[Progress], None]


def silent(_: Progress) -> None:
    """Hear nothing: for tests, and for callers that show no progress."""
