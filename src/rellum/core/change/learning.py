"""Vanilla files that are known by their hash alone, and what is learnt of them as soon as one is seen.

A known baseline names the files of a version by hash. Of one that was not as known when the pack began with
it, or lay under a mod, neither size nor content is known until a file with that hash turns up: in its
place, in the store of originals, or in a copy that somebody names.
"""

from __future__ import annotations

import os
import sqlite3
import stat
from collections.abc import Iterator
from contextlib import suppress

from rellum.core.change.supplies import is_content
from rellum.core.hashing import hash_file
from rellum.core.pack.rows import BaselineEntry
from rellum.core.pack.session import Session
from rellum.core.values.content import PLAIN_MODE, Content
from rellum.core.values.paths import PlacePath


def learn_vanilla(opened: Session, copy: str = "") -> None:
    """Note size and BLAKE3 hash of vanilla files that were known by their hash alone, where one is seen.

    ``copy``: the folder of a copy in which they may be, too. A state that cannot be written stays as it is.
    Raises OSError.
    """
    learnt: dict[PlacePath, Content] = {}
    for entry in opened.state.baseline_by_hash():
        assert entry.content is not None
        for file in _candidates(opened, entry, copy):
            if is_content(file, entry.content):
                learnt[entry.path] = _content_of(file)
                break
    if learnt:
        with suppress(sqlite3.Error):
            opened.state.learn(learnt)


def _candidates(opened: Session, entry: BaselineEntry, copy: str) -> Iterator[str]:
    yield opened.roots.absolute(entry.path)
    row = opened.state.laid([entry.path]).get(entry.path)
    if row and row.under:
        yield os.path.join(opened.home.originals_folder, row.under.digest)
    if copy and os.path.isdir(copy):
        yield os.path.join(copy, *entry.path.split("/")[1:])


def _content_of(file: str) -> Content:
    status = os.lstat(file)
    mode = stat.S_IMODE(status.st_mode) or PLAIN_MODE
    return Content(
        digest=hash_file(file), size=status.st_size, mode=mode, mtime_ns=status.st_mtime_ns
    )
