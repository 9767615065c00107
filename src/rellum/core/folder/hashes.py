"""Hashing many files of the game folder, by two processes where that is faster."""

from __future__ import annotations

import time
from collections.abc import Sequence

from rellum.core.hashing import Digest, hash_file
from rellum.core.progress import Listener, Progress, silent
from rellum.core.workers import run_both

_FORK_FROM_BYTES = 8 << 20
_REPORT_SECONDS = 0.1


def hash_files(
    files: Sequence[tuple[str, int]], stage: str, listen: Listener = silent
) -> list[Digest | None]:
    """Return the hash of each file, given as path and size in bytes; None where it is not there.

    Raises OSError where a file cannot be read.
    """
    total = sum(size for _, size in files)
    if total < _FORK_FROM_BYTES or len(files) < 2:
        return _hash_all(files, stage, total, listen)
    # Every second file to each process: neighbours are of like size, so both end together.
    ours, theirs = files[0::2], files[1::2]
    mine, others = run_both(
        lambda: _hash_all(ours, stage, total, listen, share=2),
        lambda: _hash_all(theirs, stage, total, silent),
    )
    both: list[Digest | None] = [None] * len(files)
    both[0::2] = mine
    both[1::2] = others
    return both


def _hash_all(
    files: Sequence[tuple[str, int]], stage: str, total: int, listen: Listener, share: int = 1
) -> list[Digest | None]:
    """Hash files one after another. ``share`` 2: another process does as much at the same time."""
    digests: list[Digest | None] = []
    done = 0
    reported = time.monotonic()
    for path, size in files:
        try:
            digests.append(hash_file(path))
        except FileNotFoundError:
            digests.append(None)
        done += size
        if listen is not silent and time.monotonic() - reported > _REPORT_SECONDS:
            reported = time.monotonic()
            listen(
                Progress(
                    stage=stage,
                    files=len(digests) * share,
                    total_files=len(files) * share,
                    bytes=min(done * share, total),
                    total_bytes=total,
                )
            )
    return digests
