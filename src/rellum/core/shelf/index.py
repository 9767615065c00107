"""The shelf's index: what is known about each archive since it was taken (SQLite)."""

from __future__ import annotations

import json
import os
import sqlite3
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, Final

from rellum.core.archives.model import ZIP, Form, Member
from rellum.core.database import Seal, is_read_only, open_in_memory, refuse
from rellum.core.errors import UserError
from rellum.core.hashing import Digest
from rellum.core.values.ids import ModId
from rellum.core.values.paths import MemberPath

SCHEMA_VERSION: Final = 3

_SCHEMA: Final = """
CREATE TABLE archive (
    blake3   TEXT PRIMARY KEY,
    size     INTEGER NOT NULL,
    sha256   TEXT,
    name     TEXT NOT NULL,
    taken_at TEXT NOT NULL,
    members  TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX archive_sha256 ON archive (sha256);
CREATE INDEX archive_size ON archive (size);
"""
# A file that is a part of an archive has members only where it is the first of a complete set;
# 'parts' are then the hashes of all, in order. 'origin' is how the file can be had again.
_SCHEMA_2: Final = """
ALTER TABLE archive ADD COLUMN form TEXT NOT NULL DEFAULT 'zip';
ALTER TABLE archive ADD COLUMN encoding TEXT NOT NULL DEFAULT '';
ALTER TABLE archive ADD COLUMN parts TEXT NOT NULL DEFAULT '[]';
ALTER TABLE archive ADD COLUMN part_of TEXT NOT NULL DEFAULT '';
ALTER TABLE archive ADD COLUMN origin TEXT NOT NULL DEFAULT '';
CREATE TABLE stated (
    mod     TEXT NOT NULL,
    version TEXT NOT NULL,
    build   TEXT NOT NULL,
    name    TEXT NOT NULL,
    blake3  TEXT NOT NULL,
    PRIMARY KEY (mod, version, build, name)
) WITHOUT ROWID;
CREATE TABLE pack (folder TEXT PRIMARY KEY) WITHOUT ROWID;
"""

# What was learnt of archives that were here once.
_SCHEMA_3: Final = """
CREATE TABLE known (
    blake3  TEXT PRIMARY KEY,
    size    INTEGER NOT NULL,
    sha256  TEXT,
    name    TEXT NOT NULL,
    members TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX known_sha256 ON known (sha256);
"""

INDEX_NAME: Final = "shelf.db"
PART: Final = "part"
"""The form of a file that is a part of an archive and not the first of a complete set."""


_SCRIPTS: Final = (_SCHEMA, _SCHEMA_2, _SCHEMA_3)


class ShelfFault(UserError):
    """The shelf cannot be used: its folder, its index, or the space it has."""

    code = "shelf-fault"


class IndexDamaged(ShelfFault):
    """The index of the shelf is not as Rellum left it."""

    code = "index-damaged"


@dataclass(frozen=True, slots=True, kw_only=True)
class Origin:
    """Which release a file is of, and how it can be had again. Empty where it is not known."""

    mod: str = ""
    version: str = ""
    build: str = ""
    urls: tuple[str, ...] = ()
    by_hand: str = ""
    page: str = ""

    @property
    def label(self) -> str:
        """The release in words: ``tidal-currents 3.2 (harbour)``."""
        build = f" ({self.build})" if self.build else ""
        return f"{self.mod} {self.version}{build}" if self.mod else ""


UNKNOWN: Final = Origin()


@dataclass(frozen=True, slots=True, kw_only=True)
class ShelfEntry:
    """One file on the shelf. ``size`` is in bytes; ``sha256`` only where one was asked for.

    ``parts`` are the hashes of all parts, in order, where it is the first of a complete set.
    """

    digest: Digest
    size: int
    sha256: str | None
    name: str
    form: Form | None = ZIP
    encoding: str = ""
    parts: tuple[Digest, ...] = ()
    part_of: str = ""
    origin: Origin = UNKNOWN
    taken_at: str = ""


COLUMNS: Final = "blake3, size, sha256, name, form, encoding, parts, part_of, origin, taken_at"


class Index:
    """The database beside the archives."""

    def __init__(self, folder: str, name: str = INDEX_NAME) -> None:
        """Open it, or make it. ``name`` is another during a rebuild. Raises ShelfFault."""
        file = os.path.join(folder, name)
        try:
            self._read_only = folder if is_read_only(folder) else ""
            self._seal = Seal(file)
            if self._seal.is_broken():
                raise _damaged(folder, "it is not as Rellum left it")
            self._db = self._connected(folder, file)
            self._hashes: set[str | None] | None = None
            self._is_closed = False
            version = self._db.execute("PRAGMA user_version").fetchone()[0]
            if version < SCHEMA_VERSION:
                script = "".join(_SCRIPTS[version:])
                self._db.executescript(
                    f"BEGIN; {script} PRAGMA user_version = {SCHEMA_VERSION}; COMMIT;"
                )
        except sqlite3.DatabaseError as error:
            if getattr(error, "sqlite_errorname", "") in ("SQLITE_CORRUPT", "SQLITE_NOTADB"):
                raise _damaged(folder, str(error)) from error
            raise ShelfFault(
                f"the index of the shelf {folder} cannot be used: {error}",
                hint="Set RELLUM_SHELF to a folder that can be written, on a disk with room.",
            ) from error
        except OSError as error:
            raise ShelfFault(
                f"the shelf {folder} cannot be used: {error}",
                hint="Set RELLUM_SHELF to a folder that can be written.",
            ) from error
        if version > SCHEMA_VERSION:
            raise ShelfFault(
                f"the shelf {folder} was written by a newer Rellum",
                hint="Update Rellum, or set RELLUM_SHELF to another folder.",
            )

    def _connected(self, folder: str, file: str) -> sqlite3.Connection:
        if self._read_only:
            return open_in_memory(file) if os.path.exists(file) else sqlite3.connect(":memory:")
        os.makedirs(os.path.join(folder, "archives"), exist_ok=True)
        return sqlite3.connect(file, timeout=30)

    def refuse_read_only(self) -> None:
        """Raise ReadOnly where nothing can be kept."""
        if self._read_only:
            raise refuse("the shelf", self._read_only)

    def close(self) -> None:
        """Close the database, and seal it; once closed, it stays so."""
        if self._is_closed:
            return
        self._is_closed = True
        changed = self._db.total_changes > 0
        self._db.close()
        if not self._read_only:
            self._seal.renew(changed=changed)

    def may_have(self, blake3: str | None, sha256: str | None) -> bool:
        """Whether a file with one of these hashes can be here: asked before looking for it, as the
        a line-up's files are looked up by the thousand, and this finds most of them.
        """
        if self._hashes is None:
            rows = self._db.execute("SELECT blake3, sha256 FROM archive").fetchall()
            self._hashes = {each for row in rows for each in row}
        # None among them: the SHA-256 of some file is not known yet.
        return bool({blake3, sha256} & self._hashes) or None in self._hashes

    def one(self, condition: str, *values: object) -> ShelfEntry | None:
        """Return the first file for which an SQL condition holds."""
        return next(iter(self.all(condition, *values)), None)

    def all(self, condition: str = "TRUE", *values: object) -> list[ShelfEntry]:
        """Return all files for which an SQL condition holds, by name."""
        query = f"SELECT {COLUMNS} FROM archive WHERE {condition} ORDER BY name, blake3"
        with closing(self._db.execute(query, values)) as rows:
            return [entry_of(row) for row in rows]

    def members(self, digest: Digest) -> tuple[Member, ...]:
        """Return the checked members of an archive, also of one that was here once."""
        row = self._db.execute(
            "SELECT members FROM archive WHERE blake3 = ?1"
            " UNION ALL SELECT members FROM known WHERE blake3 = ?1",
            (digest,),
        ).fetchone()
        return tuple(
            Member(
                path=MemberPath(path),
                size=size,
                digest=Digest(hashed),
                executable=bool(executable),
                copy_of=MemberPath(copied[0]) if copied else None,
            )
            for path, size, hashed, executable, *copied in json.loads(row[0] if row else "[]")
        )

    def add(self, entry: ShelfEntry, members: tuple[Member, ...]) -> ShelfEntry:
        """Record a file, or record it again; return it as recorded. Raises ReadOnly."""
        self.refuse_read_only()
        self._hashes = None
        listing = json.dumps(
            [
                [m.path, m.size, m.digest, int(m.executable), *([m.copy_of] if m.copy_of else [])]
                for m in members
            ]
        )
        with self._db:
            self._db.execute(
                "INSERT OR REPLACE INTO archive (blake3, size, sha256, name, form, encoding, parts,"
                " part_of, origin, taken_at, members) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    entry.digest,
                    entry.size,
                    entry.sha256,
                    entry.name,
                    entry.form or PART,
                    entry.encoding,
                    json.dumps(entry.parts),
                    entry.part_of,
                    _origin_text(entry.origin),
                    entry.taken_at or datetime.now(UTC).isoformat(timespec="microseconds"),
                    listing,
                ),
            )
        return entry

    def update(self, digest: Digest, column: str, value: object) -> None:
        """Set one column of a file's row."""
        self._hashes = None
        with self._db:
            self._db.execute(f"UPDATE archive SET {column} = ? WHERE blake3 = ?", (value, digest))

    def set_origin(self, digest: Digest, origin: Origin) -> None:
        """Remember which release a file is of, and how it can be had again."""
        self.update(digest, "origin", _origin_text(origin))

    def recall(self, blake3: str | None, sha256: str | None) -> ShelfEntry | None:
        """Return an archive that was here once, by one of its hashes; its members are known still."""
        row = self._db.execute(
            "SELECT blake3, size, sha256, name FROM known WHERE blake3 = ? OR sha256 = ?",
            (blake3, sha256),
        ).fetchone()
        return row and ShelfEntry(digest=Digest(row[0]), size=row[1], sha256=row[2], name=row[3])

    def forget(self, digest: Digest) -> None:
        """Take a file out of the index; what its members were stays known. Raises ReadOnly."""
        self.refuse_read_only()
        with self._db:
            self._db.execute(
                "INSERT OR REPLACE INTO known SELECT blake3, size, sha256, name, members"
                " FROM archive WHERE blake3 = ? AND members != '[]'",
                (digest,),
            )
            self._db.execute("DELETE FROM archive WHERE blake3 = ?", (digest,))
            self._db.execute("DELETE FROM stated WHERE blake3 = ?", (digest,))

    def state(self, mod: ModId, version: str, build: str, name: str, digest: Digest) -> None:
        """Remember that somebody said which file of which release this is. Raises ReadOnly."""
        self.refuse_read_only()
        with self._db:
            self._db.execute(
                "INSERT OR REPLACE INTO stated VALUES (?, ?, ?, ?, ?)",
                (mod, version, build, name, digest),
            )

    def stated(self, mod: ModId, version: str, build: str, name: str) -> Digest | None:
        """Return the file that was said to be a release's file of that name."""
        row = self._db.execute(
            "SELECT blake3 FROM stated WHERE (mod, version, build, name) = (?, ?, ?, ?)",
            (mod, version, build, name),
        ).fetchone()
        return Digest(row[0]) if row else None

    def add_pack(self, folder: str) -> None:
        """Remember a pack that uses the shelf."""
        with self._db:
            self._db.execute("INSERT OR IGNORE INTO pack VALUES (?)", (folder,))

    def packs(self) -> list[str]:
        """Return the folders of the packs that ever used the shelf."""
        return [row[0] for row in self._db.execute("SELECT folder FROM pack ORDER BY folder")]


def _damaged(folder: str, how: str) -> IndexDamaged:
    return IndexDamaged(
        f"the index of the shelf {folder} is damaged: {how}",
        hint="Nothing was changed. 'rellum shelf check' makes a new one from the archives; the damaged "
        "file is kept.",
    )


def entry_of(row: tuple[Any, ...]) -> ShelfEntry:
    """Return what a row of ``COLUMNS`` tells. Raises ValueError, TypeError where it is damaged."""
    blake3, size, sha256, name, form, encoding, parts, part_of, origin, taken_at = row
    return ShelfEntry(
        digest=Digest(blake3),
        size=size,
        sha256=sha256,
        name=name,
        form=None if form == PART else form,
        encoding=encoding,
        parts=tuple(map(Digest, json.loads(parts))),
        part_of=part_of,
        origin=_read_origin(origin),
        taken_at=taken_at,
    )


def _origin_text(origin: Origin) -> str:
    if origin == UNKNOWN:
        return ""
    return json.dumps(
        [origin.mod, origin.version, origin.build, origin.urls, origin.by_hand, origin.page]
    )


def _read_origin(text: str) -> Origin:
    if not text:
        return UNKNOWN
    mod, version, build, urls, by_hand, page = json.loads(text)
    return Origin(
        mod=mod, version=version, build=build, urls=tuple(urls), by_hand=by_hand, page=page
    )
