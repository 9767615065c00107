"""One Rellum at a time on a thing that has a lock file.

The lock is an exclusive transaction on a small SQLite database: SQLite's own locking works on every
system Rellum runs on, and the system drops it when the process ends, however it ends. Beside it
lies the holder's process number, for the message.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from rellum.core.errors import UserError


@contextmanager
def hold(lock_file: str, what: str, busy: Callable[..., UserError]) -> Iterator[None]:
    """Hold the lock file until the block ends. Raises what ``busy`` makes, with the holder's number.

    ``what`` names in messages what is held: ``the pack /path``.
    """
    holder_file = lock_file + ".holder"
    connection: sqlite3.Connection | None = None
    try:
        connection = sqlite3.connect(lock_file, timeout=0, isolation_level=None)
        connection.execute("BEGIN EXCLUSIVE")
    except sqlite3.Error as error:
        if connection:
            connection.close()
        if getattr(error, "sqlite_errorname", "").startswith("SQLITE_BUSY"):
            raise busy(
                f"another Rellum{_holder(holder_file)} is working on {what}",
                hint="Wait until it has ended, then try again.",
            ) from error
        raise busy(
            f"{what} cannot be locked: {error}",
            hint=f"Check that {os.path.dirname(lock_file)} can be written.",
        ) from error
    try:
        with open(holder_file, "w", encoding="ascii") as file:
            file.write(str(os.getpid()))
        yield
    finally:
        connection.close()


def _holder(holder_file: str) -> str:
    try:
        with open(holder_file, encoding="ascii") as file:
            return f" (process {int(file.read())})"
    except (OSError, ValueError):
        return ""
