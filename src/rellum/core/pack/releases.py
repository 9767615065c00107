"""Which release an owner in the state stands for: names are kept in their parts, never cut out of texts."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable

from rellum.core.values.ids import ModId, ReleaseName


class Releases:
    """The releases of which something is, or was, laid."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._db = connection

    def note(self, names: Iterable[ReleaseName]) -> None:
        """Remember what owners stand for, before something is laid for them."""
        known = self._all()
        new = [name for name in names if known.get(str(name)) != name]
        if new:
            with self._db:
                self._db.executemany(
                    "INSERT OR REPLACE INTO release VALUES (?, ?, ?, ?)",
                    [(str(name), *name) for name in new],
                )

    def of(self, owner: str) -> ReleaseName | None:
        """Return what an owner stands for; None for ``vanilla`` and others that are no release."""
        row = self._db.execute(
            "SELECT mod, version, build FROM release WHERE owner = ?", (owner,)
        ).fetchone()
        return ReleaseName(ModId(row[0]), row[1], row[2]) if row else None

    def laid(self) -> list[ReleaseName]:
        """Return the releases of which something is laid."""
        known = self._all()
        owners = self._db.execute("SELECT DISTINCT owner FROM laid")
        return [known[owner] for (owner,) in owners if owner in known]

    def _all(self) -> dict[str, ReleaseName]:
        rows = self._db.execute("SELECT owner, mod, version, build FROM release")
        return {owner: ReleaseName(ModId(mod), *rest) for owner, mod, *rest in rows}
