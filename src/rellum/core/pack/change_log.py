"""What was changed when: every change of the game, with the texts that the folder was made by after it."""

from __future__ import annotations

import json
import sqlite3
import zlib
from typing import NamedTuple

from rellum.core.pack.marker import MARKER_PATH
from rellum.core.pack.state_change import StateChange


class RecordedChange(NamedTuple):
    """A change. ``at`` is RFC 3339 in UTC, ``game`` the game's version after it.

    ``files`` counts the files that it touched; ``texts`` names the texts in force after it by their digests,
    and is empty where an older Rellum recorded it.
    """

    number: int
    action: str
    at: str
    files: int
    game: str
    texts: tuple[tuple[str, str], ...]


class ChangeLog:
    """The changes in an open state."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._db = connection

    def add(self, change: StateChange, moment: str) -> None:
        """Note a change, once all else of it is noted. Part of the caller's transaction."""
        texts = self._db.execute("SELECT name, digest FROM in_force ORDER BY name").fetchall()
        [game] = self._db.execute("SELECT version FROM adopted").fetchone()
        self._db.execute(
            "INSERT INTO change (id, action, done_at, files, game, texts) VALUES (?, ?, ?, ?, ?, ?)",
            (
                change.id,
                change.action,
                moment,
                sum(path != MARKER_PATH for path, _ in change.before.files),
                game,
                json.dumps(texts) if texts else "",
            ),
        )

    def last_moment(self) -> str:
        """Return when the folder was last changed (RFC 3339); an empty text where it never was."""
        row = self._db.execute("SELECT done_at FROM change ORDER BY rowid DESC LIMIT 1").fetchone()
        return row[0] if row else ""

    def all(self) -> list[RecordedChange]:
        """Return all changes, the oldest first."""
        rows = self._db.execute(
            "SELECT rowid, action, done_at, files, game, texts FROM change ORDER BY rowid"
        )
        return [
            RecordedChange(
                number, action, at, files, game, tuple(map(tuple, json.loads(texts or "[]")))
            )
            for number, action, at, files, game, texts in rows
        ]

    def text(self, digest: str) -> str:
        """Return a text by its digest; an empty one where it is not kept."""
        row = self._db.execute(
            "SELECT content FROM pack_text WHERE digest = ?", (digest,)
        ).fetchone()
        return zlib.decompress(row[0]).decode("utf-8", "surrogateescape") if row else ""
