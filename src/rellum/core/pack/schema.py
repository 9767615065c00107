"""The tables of a pack's state.

SQLite, in ``.rellum/state.db``; the schema's version stands in ``user_version``. ``baseline`` is
written once, when the game is adopted; ``spelling`` has its paths in which there are capitals, by the
path without. ``laid`` has a row for every file that Rellum put there, or took away (its digest is
empty then). ``outside`` tells where places outside the game folder lie, and ``own_folder`` which
folders Rellum made. ``made`` remembers what each recipe gave. ``kept``
has the user's files that were replaced, and those that wait for the mod ``aside_for`` to come back.
The folder as Rellum left it is the baseline with ``laid`` over it; ``stamp`` holds the same thing
as one short text for each folder (see ``rellum.core.folder.scan``), so that an unchanged folder
is recognised by a single comparison.

A ``checkpoint`` is the folder as it was when its row was made. What a change does after that is
noted under the newest checkpoint, the first time that it does it: ``was_file`` has what stood at a
path (and whether a file of the user's waited there for a mod), ``was_laid`` the path's row of ``laid``,
``was_vanilla`` its row of ``baseline``, ``was_folder`` whether Rellum had made the folder. To go back to
a checkpoint is to take, for each path, the note of the oldest checkpoint from it on. ``setting`` has the
settings as they were, whether a change touches them or not. ``pack_text`` holds the texts of rellum.toml
and rellum.lock, once each, and ``in_force`` says which of them the folder was last made by.

``guarded`` has the files that are read-only so that the game's store cannot update it, with the mode that
each had. ``absorbing`` has vanilla files with copies kept while another program changes the game.

``change`` has every change of the game: what it was, when, and which of the texts were in force after it.

``note`` holds what is remembered by name (``folder_rules`` and others). ``suspect`` has files that ``check
--deep`` found changed although size and time are as recorded. ``unsure`` has files that came with an update
of the game whose files are not known, in places that mods share: they may be the game's own.

An owner takes four columns: ``party`` for one that is no release, else ``mod``, ``version`` and ``build``.

A vanilla file can be known by its hash alone, from a known baseline: then its size is ``UNKNOWN_SIZE``, and
its digest begins with ``sha256:`` where only that hash is known.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator

from rellum.core.values.owners import owner_fields, owner_of_text

SCHEMA_VERSION = 6

SCHEMA = """
CREATE TABLE adopted (
    pack_id TEXT NOT NULL, folder TEXT NOT NULL, sheet TEXT NOT NULL, name TEXT NOT NULL,
    version TEXT NOT NULL, edition TEXT, expansions TEXT NOT NULL, evidence TEXT NOT NULL,
    adopted_at TEXT NOT NULL
);
CREATE TABLE baseline (
    path TEXT PRIMARY KEY, kind TEXT NOT NULL, size INTEGER NOT NULL, digest TEXT NOT NULL,
    mode INTEGER NOT NULL, mtime_ns INTEGER NOT NULL, target TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE laid (
    path TEXT PRIMARY KEY, owner TEXT NOT NULL, digest TEXT NOT NULL, size INTEGER NOT NULL,
    mode INTEGER NOT NULL, mtime_ns INTEGER NOT NULL,
    under_digest TEXT, under_size INTEGER, under_mode INTEGER, under_mtime_ns INTEGER,
    role TEXT NOT NULL DEFAULT '', base_digest TEXT
) WITHOUT ROWID;
CREATE INDEX laid_owner ON laid (owner);
CREATE TABLE stamp (folder TEXT PRIMARY KEY, rows BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE kept (
    path TEXT NOT NULL, digest TEXT NOT NULL, size INTEGER NOT NULL, kept_at TEXT NOT NULL,
    aside_for TEXT NOT NULL DEFAULT ''
);
CREATE TABLE change (id TEXT PRIMARY KEY, action TEXT NOT NULL, done_at TEXT NOT NULL);
"""
SCHEMA_2 = """
CREATE TABLE spelling (folded TEXT PRIMARY KEY, path TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE outside (root TEXT PRIMARY KEY, folder TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE own_folder (path TEXT PRIMARY KEY) WITHOUT ROWID;
CREATE TABLE made (
    recipe TEXT PRIMARY KEY, digest TEXT NOT NULL, size INTEGER NOT NULL, notes TEXT NOT NULL
) WITHOUT ROWID;
"""
SCHEMA_3 = """
CREATE TABLE checkpoint (
    number INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL, good INTEGER NOT NULL,
    made_at TEXT NOT NULL, ended_by TEXT NOT NULL, pack_texts TEXT NOT NULL, identity TEXT NOT NULL
);
CREATE TABLE was_file (
    checkpoint INTEGER NOT NULL, path TEXT NOT NULL, digest TEXT, size INTEGER, mode INTEGER,
    mtime_ns INTEGER, aside_for TEXT NOT NULL, PRIMARY KEY (checkpoint, path)
) WITHOUT ROWID;
CREATE TABLE was_laid (
    checkpoint INTEGER NOT NULL, path TEXT NOT NULL, under_digest TEXT, base_digest TEXT, row TEXT,
    PRIMARY KEY (checkpoint, path)
) WITHOUT ROWID;
CREATE TABLE was_vanilla (
    checkpoint INTEGER NOT NULL, path TEXT NOT NULL, row TEXT, PRIMARY KEY (checkpoint, path)
) WITHOUT ROWID;
CREATE TABLE was_folder (
    checkpoint INTEGER NOT NULL, path TEXT NOT NULL, own INTEGER NOT NULL,
    PRIMARY KEY (checkpoint, path)
) WITHOUT ROWID;
CREATE TABLE setting (
    checkpoint INTEGER NOT NULL, path TEXT NOT NULL, digest TEXT NOT NULL, size INTEGER NOT NULL,
    mode INTEGER NOT NULL, mtime_ns INTEGER NOT NULL, PRIMARY KEY (checkpoint, path)
) WITHOUT ROWID;
CREATE TABLE pack_text (digest TEXT PRIMARY KEY, content BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE in_force (name TEXT PRIMARY KEY, digest TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE guarded (path TEXT PRIMARY KEY, mode INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE absorbing (path TEXT PRIMARY KEY, digest TEXT NOT NULL) WITHOUT ROWID;
"""
SCHEMA_4 = """
CREATE TABLE note (name TEXT PRIMARY KEY, text TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE suspect (
    path TEXT PRIMARY KEY, size INTEGER NOT NULL, mtime_ns INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE unsure (path TEXT PRIMARY KEY) WITHOUT ROWID;
CREATE TABLE release (
    owner TEXT PRIMARY KEY, mod TEXT NOT NULL, version TEXT NOT NULL, build TEXT NOT NULL
) WITHOUT ROWID;
INSERT INTO release
    SELECT DISTINCT owner, substr(owner, 1, instr(owner, ' ') - 1),
        substr(owner, instr(owner, ' ') + 1), ''
    FROM laid WHERE instr(owner, ' ') > 0;
CREATE INDEX baseline_unknown ON baseline (path) WHERE size < 0;
ALTER TABLE kept RENAME TO kept_3;
CREATE TABLE kept (
    number INTEGER PRIMARY KEY AUTOINCREMENT, path TEXT NOT NULL, digest TEXT NOT NULL,
    size INTEGER NOT NULL, kept_at TEXT NOT NULL, aside_for TEXT NOT NULL DEFAULT '',
    owner TEXT NOT NULL DEFAULT '', action TEXT NOT NULL DEFAULT '', base_digest TEXT, mode INTEGER
);
INSERT INTO kept (path, digest, size, kept_at, aside_for)
    SELECT path, digest, size, kept_at, aside_for FROM kept_3 ORDER BY rowid;
DROP TABLE kept_3;
"""
# Before, an owner was one text, which the table ``release`` explained.
SCHEMA_5 = (
    "ALTER TABLE laid RENAME TO laid_4",
    "DROP INDEX laid_owner",
    """CREATE TABLE laid (
    path TEXT PRIMARY KEY, party TEXT NOT NULL, mod TEXT NOT NULL, version TEXT NOT NULL,
    build TEXT NOT NULL, digest TEXT NOT NULL, size INTEGER NOT NULL, mode INTEGER NOT NULL,
    mtime_ns INTEGER NOT NULL, under_digest TEXT, under_size INTEGER, under_mode INTEGER,
    under_mtime_ns INTEGER, role TEXT NOT NULL, base_digest TEXT
) WITHOUT ROWID""",
    "CREATE INDEX laid_mod ON laid (mod)",
    "ALTER TABLE kept ADD COLUMN party TEXT NOT NULL DEFAULT ''",
    "ALTER TABLE kept ADD COLUMN mod TEXT NOT NULL DEFAULT ''",
    "ALTER TABLE kept ADD COLUMN version TEXT NOT NULL DEFAULT ''",
    "ALTER TABLE kept ADD COLUMN build TEXT NOT NULL DEFAULT ''",
)
SCHEMA_6 = (
    "ALTER TABLE change ADD COLUMN files INTEGER NOT NULL DEFAULT 0",
    "ALTER TABLE change ADD COLUMN game TEXT NOT NULL DEFAULT ''",
    "ALTER TABLE change ADD COLUMN texts TEXT NOT NULL DEFAULT ''",
)
_FROM_1_TO_2 = f"""
BEGIN;
ALTER TABLE laid ADD COLUMN role TEXT NOT NULL DEFAULT '';
ALTER TABLE laid ADD COLUMN base_digest TEXT;
ALTER TABLE kept ADD COLUMN aside_for TEXT NOT NULL DEFAULT '';
{SCHEMA_2}
"""


def upgrade(connection: sqlite3.Connection, version: int) -> None:
    """Bring a state of an older schema to this one, a schema at a time. Raises sqlite3.Error."""
    if version == 1:
        _upgrade_1(connection)
    if version < 3:
        connection.executescript(f"BEGIN; {SCHEMA_3} PRAGMA user_version = 3; COMMIT;")
    if version < 4:
        connection.executescript(f"BEGIN; {SCHEMA_4} PRAGMA user_version = 4; COMMIT;")
    if version < 5:
        _upgrade_4(connection)
    connection.execute("BEGIN")
    for statement in SCHEMA_6:
        connection.execute(statement)
    connection.execute("PRAGMA user_version = 6")
    connection.commit()


def _upgrade_1(connection: sqlite3.Connection) -> None:
    connection.executescript(_FROM_1_TO_2)
    paths = (path for (path,) in connection.execute("SELECT path FROM baseline").fetchall())
    connection.executemany("INSERT OR IGNORE INTO spelling VALUES (?, ?)", spelling_rows(paths))
    connection.execute("PRAGMA user_version = 2")
    connection.commit()


def _upgrade_4(connection: sqlite3.Connection) -> None:
    """Give owners columns, in one transaction."""
    connection.execute("BEGIN")
    rows = connection.execute("SELECT owner, mod, version, build FROM release")
    releases = {owner: ("", *name) for owner, *name in rows}

    def fields(owner: str) -> tuple[str, ...]:
        return releases.get(owner) or owner_fields(owner_of_text(owner))

    for statement in SCHEMA_5:
        connection.execute(statement)
    connection.executemany(
        f"INSERT INTO laid VALUES ({', '.join('?' * 15)})",
        (
            (path, *fields(owner), *rest)
            for path, owner, *rest in connection.execute("SELECT * FROM laid_4").fetchall()
        ),
    )
    connection.executemany(
        "UPDATE kept SET party = ?, mod = ?, version = ?, build = ? WHERE owner = ?",
        (
            (*fields(owner), owner)
            for (owner,) in connection.execute("SELECT DISTINCT owner FROM kept").fetchall()
        ),
    )
    noted = connection.execute("SELECT checkpoint, path, row FROM was_laid WHERE row IS NOT NULL")
    connection.executemany(
        "UPDATE was_laid SET row = ? WHERE checkpoint = ? AND path = ?",
        (
            (json.dumps([row[0], *fields(row[1]), *row[2:]]), checkpoint, path)
            for checkpoint, path, row in (
                (number, path, json.loads(text)) for number, path, text in noted.fetchall()
            )
        ),
    )
    for statement in (
        "DROP TABLE laid_4",
        "DROP TABLE release",
        "ALTER TABLE kept DROP COLUMN owner",
    ):
        connection.execute(statement)
    connection.execute("PRAGMA user_version = 5")
    connection.commit()


def spelling_rows(paths: Iterable[str]) -> Iterator[tuple[str, str]]:
    """Yield the rows of the table ``spelling``: paths that their folded form does not tell."""
    return ((path.casefold(), path) for path in paths if path.casefold() != path)
