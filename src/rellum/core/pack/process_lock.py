"""One Rellum at a time on a pack.

The lock is an exclusive transaction on a small SQLite database: SQLite's own locking works on every
system Rellum runs on, and the system drops it when the process ends, however it ends. Beside it
lies the holder's process number, for the message.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager

from rellum.core.errors import UserError
from rellum.core.pack.home import PackHome


class PackBusy(UserError):
    """Another process works on this pack."""

    code = "pack-busy"


@contextmanager
def hold_pack(home: PackHome) -> Iterator[None]:
    """Hold the pack until the block ends. Raises PackBusy with the holder's process number."""
    holder_file = home.process_lock_file + ".holder"
    connection: sqlite3.Connection | None = None
    try:
        connection = sqlite3.connect(home.process_lock_file, timeout=0, isolation_level=None)
        connection.execute("BEGIN EXCLUSIVE")
    except sqlite3.Error as error:
        if connection:
            connection.close()
        if getattr(error, "sqlite_errorname", "").startswith("SQLITE_BUSY"):
            raise PackBusy(
                f"another Rellum{_holder(holder_file)} is working on the pack {home.folder}",
                hint="Wait until it has ended, then try again.",
            ) from error
        raise PackBusy(
            f"the pack {home.folder} cannot be locked: {error}",
            hint=f"Check that {home.state_folder} can be written.",
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
