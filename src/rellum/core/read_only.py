"""Databases on a disk that cannot be written: they are read into memory, where what is learnt may go.

What a user asked to be kept must be refused there: ``refuse``.
"""

from __future__ import annotations

import os
import sqlite3

from rellum.core.errors import UserError


class ReadOnly(UserError):
    """What shall be kept lies on a disk, or in a folder, that cannot be written."""

    code = "read-only"


def is_read_only(folder: str) -> bool:
    """Whether nothing can be written in a folder that is there."""
    return os.path.isdir(folder) and not os.access(folder, os.W_OK)


def connect_reading(file: str) -> sqlite3.Connection:
    """Connect to a database that can only be read; no transaction is open. Raises sqlite3.Error."""
    from pathlib import Path  # rare, and not wanted at every start

    uri = f"{Path(file).absolute().as_uri()}?mode=ro"
    return sqlite3.connect(uri, timeout=0, isolation_level=None, uri=True)


def open_in_memory(file: str) -> sqlite3.Connection:
    """Return a copy in memory of a database that can only be read. Raises sqlite3.Error."""
    copy = sqlite3.connect(":memory:")
    source = connect_reading(file)
    try:
        source.backup(copy)
    finally:
        source.close()
    return copy


def refuse(what: str, folder: str) -> ReadOnly:
    """Return the error to raise where something was to be kept. ``what``: ``the pack``."""
    return ReadOnly(
        f"{what} can only be read: {folder} cannot be written",
        hint="Nothing was changed. Change the folder's rights, or connect its disk for writing.",
    )
