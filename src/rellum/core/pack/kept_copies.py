"""Kept copies: the user's files that were in the way or went, in the order in which they were kept."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from typing import NamedTuple

from rellum.core.hashing import Digest
from rellum.core.values.owners import Owner, owner_fields, owner_or_nobody
from rellum.core.values.paths import PlacePath


class Kept(NamedTuple):
    """A file that stood in the way or went: a copy lies in the store of originals.

    aside_for: the mod with which it comes back, empty where it does not
    owner: whose path it was; None where that was not noted
    base: what the release wanted of a file that was merged with the user's changes
    number, kept_at, action: of one that is in the list; when (UTC, ISO 8601) and by what it was kept
    """

    path: PlacePath
    digest: Digest
    size: int
    aside_for: str = ""
    owner: Owner | None = None
    base: Digest | None = None
    mode: int | None = None
    number: int = 0
    kept_at: str = ""
    action: str = ""


_COLUMNS = (
    "path, digest, size, aside_for, party, mod, version, build, base_digest, mode, "
    "number, kept_at, action"
)


_NEW_COLUMNS = _COLUMNS.replace("number, ", "")


class KeptCopies:
    """The list of kept copies in an open state."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._db = connection

    def all(self) -> list[Kept]:
        """Return every kept copy, the oldest first."""
        rows = self._db.execute(f"SELECT {_COLUMNS} FROM kept ORDER BY number")
        return [_kept(*row) for row in rows]

    def aside(self) -> list[Kept]:
        """Return the files that wait for a mod to come back, the latest of each path."""
        return list({each.path: each for each in self.all() if each.aside_for}.values())

    def add(self, copies: Iterable[Kept], action: str, moment: str) -> None:
        """Add copies to the list. Part of the caller's transaction."""
        self._db.executemany(
            f"INSERT INTO kept ({_NEW_COLUMNS}) VALUES ({', '.join('?' * 12)})",
            ((*k[:4], *owner_fields(k.owner), k.base, k.mode, moment, action) for k in copies),
        )

    def forget_returned(self, paths: Iterable[PlacePath]) -> None:
        """Take what waited at paths off the list, as it is back. Part of the caller's transaction."""
        self._db.executemany(
            "DELETE FROM kept WHERE path = ? AND aside_for != ''", ((path,) for path in paths)
        )

    def forget(self, numbers: Iterable[int]) -> None:
        """Take copies off the list. Part of the caller's transaction."""
        self._db.executemany("DELETE FROM kept WHERE number = ?", ((each,) for each in numbers))


def _kept(
    path: str,
    digest: str,
    size: int,
    aside_for: str,
    party: str,
    mod: str,
    version: str,
    build: str,
    base: str | None,
    mode: int | None,
    number: int,
    kept_at: str,
    action: str,
) -> Kept:
    return Kept(
        path=PlacePath(path),
        digest=Digest(digest),
        size=size,
        aside_for=aside_for,
        owner=owner_or_nobody((party, mod, version, build)),
        base=Digest(base) if base else None,
        mode=mode,
        number=number,
        kept_at=kept_at,
        action=action,
    )
