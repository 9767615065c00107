"""One Rellum at a time on a thing that has a lock file.

The lock is an exclusive transaction on a small SQLite database: SQLite's own locking works on every
system Rellum runs on, and the system drops it when the process ends, however it ends. Beside it
lies the holder's process number, for the message. Where nothing can be written, those who read share it.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from rellum.core.database import connect_reading, is_read_only
from rellum.core.errors import UserError


@contextmanager
def hold(lock_file: str, what: str, busy: Callable[..., UserError]) -> Iterator[None]:
    """Hold the lock file until the block ends. Raises what ``busy`` makes, with the holder's number.

    ``what`` names in messages what is held: ``the pack /path``.
    """
    holder_file = lock_file + ".holder"
    only_reads = is_read_only(os.path.dirname(lock_file))
    if only_reads and not os.path.exists(lock_file):
        yield
        return
    try:
        connection = _locked(lock_file, only_reads=only_reads)
    except sqlite3.Error as error:
        if getattr(error, "sqlite_errorname", "").startswith("SQLITE_BUSY"):
            raise busy(
                f"another Rellum{_holder(holder_file)} is working on {what}",
                hint="Wait until it has finished, then try again.",
            ) from error
        raise busy(
            f"{what} cannot be locked: {error}",
            hint=f"Check that {os.path.dirname(lock_file)} can be written.",
        ) from error
    try:
        if not only_reads:
            with open(holder_file, "w", encoding="utf-8") as file:
                file.write(str(os.getpid()))
        yield
    finally:
        connection.close()


def _locked(lock_file: str, *, only_reads: bool) -> sqlite3.Connection:
    """Return a connection that holds the file alone; where it can only be read, beside other readers."""
    connection = (
        connect_reading(lock_file)
        if only_reads
        else sqlite3.connect(lock_file, timeout=0, isolation_level=None)
    )
    try:
        connection.execute("BEGIN" if only_reads else "BEGIN EXCLUSIVE")
        if only_reads:
            connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
    except sqlite3.Error:
        connection.close()
        raise
    return connection


def _holder(holder_file: str) -> str:
    try:
        with open(holder_file, encoding="ascii") as file:
            return f" (process {int(file.read())})"
    except (OSError, ValueError):
        return ""
