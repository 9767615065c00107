"""Kept copies: the user's files that were in the way or went, in the order in which they were kept."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from typing import NamedTuple

from rellum.core.hashing import Digest
from rellum.core.values.paths import PlacePath


class Kept(NamedTuple):
    """A file that stood in the way or went: a copy lies in the store of originals.

    aside_for: the mod with which it comes back, empty where it does not
    owner: whose path it was: a release, ``vanilla`` or ``foreign``
    base: what the release wanted of a file that was merged with the user's changes
    number, kept_at, action: of one that is in the list; when (UTC, ISO 8601) and by what it was kept
    """

    path: PlacePath
    digest: Digest
    size: int
    aside_for: str = ""
    owner: str = ""
    base: Digest | None = None
    mode: int | None = None
    number: int = 0
    kept_at: str = ""
    action: str = ""


_COLUMNS = "path, digest, size, aside_for, owner, base_digest, mode, number, kept_at, action"


class KeptCopies:
    """The list of kept copies in an open state."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._db = connection

    def all(self) -> list[Kept]:
        """Return every kept copy, the oldest first."""
        rows = self._db.execute(f"SELECT {_COLUMNS} FROM kept ORDER BY number")
        return [Kept(*row) for row in rows]

    def aside(self) -> list[Kept]:
        """Return the files that wait for a mod to come back, the latest of each path."""
        return list({each.path: each for each in self.all() if each.aside_for}.values())

    def add(self, copies: Iterable[Kept], action: str, moment: str) -> None:
        """Add copies to the list. Part of the caller's transaction."""
        self._db.executemany(
            "INSERT INTO kept (path, digest, size, aside_for, owner, base_digest, mode, kept_at, action)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                (k.path, k.digest, k.size, k.aside_for, k.owner, k.base, k.mode, moment, action)
                for k in copies
            ),
        )

    def forget_returned(self, paths: Iterable[PlacePath]) -> None:
        """Take what waited at paths off the list, as it is back. Part of the caller's transaction."""
        self._db.executemany(
            "DELETE FROM kept WHERE path = ? AND aside_for != ''", ((path,) for path in paths)
        )

    def forget(self, numbers: Iterable[int]) -> None:
        """Take copies off the list. Part of the caller's transaction."""
        self._db.executemany("DELETE FROM kept WHERE number = ?", ((each,) for each in numbers))
