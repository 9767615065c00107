"""What the databases of packs and shelves share: they can lie on a disk that only reads, and rot is noticed.

SQLite finds only damage to its own structure. So beside each database lies its *seal*: a hash of the
whole file as it was when it was last closed, with the counter of changes that SQLite keeps in the file's
header (bytes 24 to 27, see "Database File Format" in SQLite's documentation). Where the counter is
another than the seal's, something wrote since and was cut short before it could seal; that is no damage.
"""

from __future__ import annotations

import os
import sqlite3
from contextlib import suppress

from rellum.core.errors import UserError
from rellum.core.hashing import hash_bytes, hash_file

SEAL = ".seal"
_COUNTER = slice(24, 28)
_LARGE = 1 << 20
"""Bytes; a larger file is read in a thread, while the command goes on."""


class ReadOnly(UserError):
    """The pack or the shelf is on a disk, or in a folder, that cannot be written."""

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
        hint="Nothing was changed. Change the folder's permissions, or make its disk writable.",
    )


class Seal:
    """The seal of a database.

    Nothing here opens the file while this process has a lock on it that matters: closing it would drop the
    lock. So other processes may write meanwhile; their rollback journal and the counter tell.
    """

    def __init__(self, file: str) -> None:
        self.file = file
        self._is_broken: bool | None = None
        self._is_fresh = False
        self._reading = None
        if not os.path.exists(file) or os.path.getsize(file) < _LARGE:
            self._look()
            return
        from threading import Thread

        self._reading = Thread(target=self._look, daemon=True)
        self._reading.start()

    def is_broken(self) -> bool:
        """Whether the file is not as it was left, though nobody wrote to it."""
        if self._reading is not None:
            self._reading.join()
            self._reading = None
        return bool(self._is_broken)

    def renew(self, *, changed: bool) -> None:
        """Seal the file as it is, where it ``changed`` or had no good seal. The database is closed."""
        if self.is_broken() or (self._is_fresh and not changed):
            return
        with suppress(OSError):  # only a proof less
            content = self._content()
            if not content:
                return
            text = b"%s %s" % content
            unfinished = f"{self.file}{SEAL}.new"
            with open(unfinished, "wb") as stream:
                stream.write(b"%s %s\n" % (text, hash_bytes(text).encode()))
            os.replace(unfinished, self.file + SEAL)

    def _look(self) -> None:
        with suppress(OSError):  # what cannot be read is found by whoever reads it
            with open(self.file + SEAL, "rb") as stream:
                text, _, check = stream.read(200).strip().rpartition(b" ")
            if check != hash_bytes(text).encode() or text.split()[0] != self._counter():
                return
            content = self._content()
            if content:
                self._is_fresh = text == b"%s %s" % content
                self._is_broken = not self._is_fresh

    def _content(self) -> tuple[bytes, bytes] | None:
        """Return counter and hash, as texts; None where somebody writes. Raises OSError."""
        counter = self._counter()
        if self._is_being_written():
            return None
        digest = hash_file(self.file).encode()
        if self._is_being_written() or self._counter() != counter:
            return None
        return counter, digest

    def _is_being_written(self) -> bool:
        return os.path.exists(self.file + "-journal")

    def _counter(self) -> bytes:
        with open(self.file, "rb") as stream:
            return stream.read(_COUNTER.stop)[_COUNTER].hex().encode()
