"""Checkpoints in the state: what the folder, the settings and the line-up were, and what may be forgotten.

The tables are described in ``rellum.core.pack.schema``. A checkpoint costs what changed since, not
what the game holds.
"""

from __future__ import annotations

import json
import sqlite3
import time
import zlib
from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from typing import Any, NamedTuple

from rellum.core.hashing import Digest, hash_bytes
from rellum.core.pack.rows import IDENTITY_COLUMNS, LAID_BASE, LAID_UNDER
from rellum.core.pack.state_change import Before, PackTexts, SettingRow, StateChange
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath

KEPT_IN_FULL = 10
"""So many of the newest checkpoints stay, whatever they are."""

KEPT_DAYS = 30
"""Of older ones, the last of each day stays for so many days. Named and good ones stay always."""

# What lies at the same path now, laid or vanilla, is put into the store when it goes.
NEEDED_BY_CHECKPOINTS = """
    SELECT path, was_file.digest FROM was_file LEFT JOIN laid USING (path) LEFT JOIN baseline USING (path)
    WHERE was_file.digest IS NOT NULL AND was_file.digest IS NOT laid.digest
    AND was_file.digest IS NOT baseline.digest
    UNION ALL SELECT path, was_laid.under_digest FROM was_laid LEFT JOIN baseline USING (path)
    WHERE was_laid.under_digest IS NOT NULL AND was_laid.under_digest IS NOT baseline.digest
    UNION ALL SELECT path, base_digest FROM was_laid WHERE base_digest IS NOT NULL
    UNION ALL SELECT path, digest FROM setting UNION ALL SELECT path, digest FROM absorbing
"""


class Checkpoint(NamedTuple):
    """A state that can be gone back to.

    ``ended_by`` is the action that changed the folder after it, empty where nothing has yet; ``version``
    is the game's. ``files`` counts the files that going back just one checkpoint would touch.
    """

    number: int
    name: str
    good: bool
    made_at: str
    ended_by: str
    version: str
    files: int


class PastState(NamedTuple):
    """How everything was at a checkpoint that is not so now, or may not be.

    ``files`` and ``laid`` hold None where nothing stood, or was laid; what ``files`` has of the paths in
    ``later`` was first noted after a later checkpoint. ``vanilla`` are rows of the table
    ``baseline``; ``folders`` tell whether Rellum had made each. ``aside`` names the mod for which a file
    waited at a path.
    """

    files: Mapping[PlacePath, Content | None]
    later: Set[PlacePath]
    aside: Mapping[PlacePath, str]
    laid: Mapping[PlacePath, tuple[Any, ...] | None]
    vanilla: Mapping[PlacePath, tuple[Any, ...] | None]
    folders: Mapping[PlacePath, bool]
    settings: Mapping[PlacePath, Content]
    pack_texts: PackTexts
    identity: str


class Checkpoints:
    """The checkpoints in an open state."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._db = connection

    def all(self) -> list[Checkpoint]:
        """Return every checkpoint, the newest first."""
        counts = dict(self._db.execute("SELECT checkpoint, count(*) FROM was_file GROUP BY 1"))
        rows = self._db.execute(
            "SELECT number, name, good, made_at, ended_by, identity FROM checkpoint"
            " ORDER BY number DESC"
        )
        return [
            Checkpoint(
                number=number,
                name=name,
                good=bool(good),
                made_at=made_at,
                ended_by=ended_by,
                version=json.loads(identity)[2],
                files=counts.get(number, 0),
            )
            for number, name, good, made_at, ended_by, identity in rows
        ]

    def settings(self) -> dict[PlacePath, Content]:
        """Return the settings as the newest checkpoint has them."""
        newest = self._newest()
        return dict(self._settings(newest)) if newest else {}

    def files(self) -> Iterator[tuple[PlacePath, Digest]]:
        """Yield every content that stood at a path at some checkpoint."""
        rows = self._db.execute("SELECT path, digest FROM was_file WHERE digest IS NOT NULL")
        return ((PlacePath(path), Digest(digest)) for path, digest in rows)

    def texts_in_force(self) -> PackTexts:
        """Return the texts that the folder was last made by."""
        rows = self._db.execute("SELECT name, digest FROM in_force ORDER BY name")
        return self._texts(rows.fetchall())

    def texts_of(self, number: int) -> PackTexts:
        """Return the texts of a checkpoint."""
        [texts] = self._db.execute(
            "SELECT pack_texts FROM checkpoint WHERE number = ?", (number,)
        ).fetchone()
        return self._texts(json.loads(texts))

    def put_in_force(self, texts: PackTexts) -> None:
        """Note the texts that the folder is made by. Part of the caller's transaction."""
        self._db.execute("DELETE FROM in_force")
        self._db.executemany("INSERT INTO in_force VALUES (?, ?)", self._put_texts(texts))

    def make(self, name: str, good: bool, before: Before, moment: str) -> int:
        """Make a checkpoint of what is now; its number.

        Where nothing changed since the newest, that one gets the name and the mark; one that has another name
        already keeps it, and a second one is made of the same state.
        """
        with self._db:
            number = self._make(before, moment)
            if name:
                [called] = self._db.execute(
                    "SELECT name FROM checkpoint WHERE number = ?", (number,)
                ).fetchone()
                if called not in ("", name):
                    number = self._again(number, moment)
                self._db.execute("UPDATE checkpoint SET name = ? WHERE number = ?", (name, number))
            if good:
                self._db.execute("UPDATE checkpoint SET good = 1 WHERE number = ?", (number,))
        return number

    def named(self, name: str) -> Checkpoint | None:
        """Return the checkpoint of that name."""
        return next((each for each in self.all() if name and each.name == name), None)

    def is_newest(self, number: int, before: Before) -> bool:
        """Whether a checkpoint is the newest and nothing changed since."""
        texts = None if before.pack_texts is None else self._put_texts(before.pack_texts)
        return number == self._newest() and self._is_of_now(number, before, texts)

    def unname(self, number: int) -> None:
        """Take name and mark off a checkpoint: it is one of many then, and may be forgotten."""
        with self._db:
            self._db.execute(
                "UPDATE checkpoint SET name = '', good = 0 WHERE number = ?", (number,)
            )

    def _again(self, number: int, moment: str) -> int:
        """Make a second checkpoint of the state of the newest; its number."""
        cursor = self._db.execute(
            "INSERT INTO checkpoint (name, good, made_at, ended_by, pack_texts, identity)"
            " SELECT '', 0, ?, '', pack_texts, identity FROM checkpoint WHERE number = ?",
            (moment, number),
        )
        second = cursor.lastrowid
        assert second
        self._db.execute(
            "INSERT INTO setting SELECT ?, path, digest, size, mode, mtime_ns FROM setting"
            " WHERE checkpoint = ?",
            (second, number),
        )
        return second

    def note(self, change: StateChange, moment: str) -> bool:
        """Note how everything was that a change makes other. Part of its transaction, and first in it.

        A change that cannot be undone makes none. Return whether old checkpoints were dropped.
        """
        if not _can_be_undone(change):
            if change.pack_texts is not None:
                self.put_in_force(change.pack_texts)
            return False
        number = self._make(change.before, moment)
        self._db.execute(
            "UPDATE checkpoint SET ended_by = ? WHERE number = ? AND ended_by = ''",
            (change.action, number),
        )
        aside = dict(self._db.execute("SELECT path, aside_for FROM kept WHERE aside_for != ''"))
        self._db.executemany(
            "INSERT OR IGNORE INTO was_file VALUES (?, ?, ?, ?, ?, ?, ?)",
            ((number, path, *_columns(c), aside.get(path, "")) for path, c in change.before.files),
        )
        laid = [each.path for each in change.laid] + list(change.no_longer_laid)
        self._note_rows("was_laid", "laid", number, laid)
        self._note_rows("was_vanilla", "baseline", number, [path for path, _ in change.baseline])
        own = {path for (path,) in self._db.execute("SELECT path FROM own_folder")}
        self._db.executemany(
            "INSERT OR IGNORE INTO was_folder VALUES (?, ?, ?)",
            ((number, path, path in own) for path in (*change.new_folders, *change.gone_folders)),
        )
        if change.pack_texts is not None:
            self.put_in_force(change.pack_texts)
        return self._thin()

    def then(self, number: int) -> PastState:
        """Return how everything was at a checkpoint."""
        since = "FROM {} WHERE checkpoint >= ? ORDER BY checkpoint DESC"
        files: dict[PlacePath, Content | None] = {}
        aside: dict[PlacePath, str] = {}
        noted: dict[PlacePath, int] = {}
        for at, path, *columns, waits in self._db.execute(
            f"SELECT * {since.format('was_file')}", (number,)
        ):
            files[path], aside[path], noted[path] = _content(columns), waits, at
        laid, vanilla = (
            {
                PlacePath(path): None if row is None else tuple(json.loads(row))
                for path, row in self._db.execute(
                    f"SELECT path, row {since.format(table)}", (number,)
                )
            }
            for table in ("was_laid", "was_vanilla")
        )
        folders = {
            PlacePath(path): bool(own)
            for path, own in self._db.execute(
                f"SELECT path, own {since.format('was_folder')}", (number,)
            )
        }
        texts, identity = self._db.execute(
            "SELECT pack_texts, identity FROM checkpoint WHERE number = ?", (number,)
        ).fetchone()
        return PastState(
            files=files,
            later={path for path, at in noted.items() if at > number},
            aside={path: waits for path, waits in aside.items() if waits},
            laid=laid,
            vanilla=vanilla,
            folders=folders,
            settings=dict(self._settings(number)),
            pack_texts=self._texts(json.loads(texts)),
            identity=identity,
        )

    def _make(self, before: Before, moment: str) -> int:
        """Return the checkpoint of what is now: the newest, where nothing changed since; or a new one."""
        in_force = self._db.execute("SELECT name, digest FROM in_force ORDER BY name").fetchall()
        standing = before.pack_texts
        texts = in_force if standing is None else self._put_texts(standing)
        identity = self._identity()
        newest = self._newest()
        if newest and self._is_of_now(newest, before, texts):
            return newest
        cursor = self._db.execute(
            "INSERT INTO checkpoint (name, good, made_at, ended_by, pack_texts, identity)"
            " VALUES ('', 0, ?, '', ?, ?)",
            (moment, json.dumps(texts), identity),
        )
        number = cursor.lastrowid
        assert number
        self._db.executemany(
            "INSERT INTO setting VALUES (?, ?, ?, ?, ?, ?)",
            ((number, path, *_columns(content)) for path, content in before.settings),
        )
        return number

    def _is_of_now(
        self, number: int, before: Before, texts: Sequence[tuple[str, str]] | None
    ) -> bool:
        """Whether all is as a checkpoint has it, going by what is noted, the texts and the settings."""
        ended_by, its_texts, its_identity = self._db.execute(
            "SELECT ended_by, pack_texts, identity FROM checkpoint WHERE number = ?", (number,)
        ).fetchone()
        return (
            not ended_by
            and its_texts == json.dumps(texts)
            and its_identity == self._identity()
            and _same(dict(self._settings(number)), dict(before.settings))
        )

    def _identity(self) -> str:
        row = self._db.execute(f"SELECT {IDENTITY_COLUMNS} FROM adopted").fetchone()
        return json.dumps(row)

    def _note_rows(self, table: str, of: str, number: int, paths: Sequence[str]) -> None:
        """Note the rows that stand in a table for these paths, as JSON; null where there is none."""
        columns = "path, under_digest, base_digest, row" if of == "laid" else "path, row"
        marks = ", ".join("?" * (columns.count(",") + 2))
        statement = f"INSERT OR IGNORE INTO {table} (checkpoint, {columns}) VALUES ({marks})"
        for start in range(0, len(paths), 500):
            part = paths[start : start + 500]
            some = ",".join("?" * len(part))
            found = {
                row[0]: row
                for row in self._db.execute(f"SELECT * FROM {of} WHERE path IN ({some})", part)
            }
            for path in part:
                row = found.get(path)
                text = None if row is None else json.dumps(row)
                digests = (
                    ((row[LAID_UNDER], row[LAID_BASE]) if row else (None, None))
                    if of == "laid"
                    else ()
                )
                self._db.execute(statement, (number, path, *digests, text))

    def _newest(self) -> int:
        number = self._db.execute("SELECT max(number) FROM checkpoint").fetchone()[0]
        return number or 0

    def _settings(self, number: int) -> Iterator[SettingRow]:
        rows = self._db.execute(
            "SELECT path, digest, size, mode, mtime_ns FROM setting WHERE checkpoint = ?", (number,)
        )
        for path, *columns in rows:
            content = _content(columns)
            assert content is not None
            yield PlacePath(path), content

    def _put_texts(self, texts: PackTexts) -> list[tuple[str, str]]:
        rows: list[tuple[str, str]] = []
        for name, text in sorted(texts):
            content = text.encode("utf-8", "surrogateescape")
            digest = hash_bytes(content)
            self._db.execute(
                "INSERT OR IGNORE INTO pack_text VALUES (?, ?)", (digest, zlib.compress(content))
            )
            rows.append((name, digest))
        return rows

    def _texts(self, rows: Iterable[Sequence[str]]) -> PackTexts:
        found = []
        for name, digest in rows:
            (content,) = self._db.execute(
                "SELECT content FROM pack_text WHERE digest = ?", (digest,)
            ).fetchone()
            found.append((name, zlib.decompress(content).decode("utf-8", "surrogateescape")))
        return tuple(found)

    def forget_before(self, number: int) -> int:
        """Forget the checkpoints before one that have neither a name nor a mark; return how many."""
        with self._db:
            rows = self._db.execute(
                "SELECT number FROM checkpoint WHERE number < ? AND name = '' AND NOT good",
                (number,),
            ).fetchall()
            self._forget([each for (each,) in rows])
        return len(rows)

    def _within_hunts(self) -> list[int]:
        """Return the checkpoints between the rounds of a hunt: the one before its first round is enough."""
        rows = self._db.execute(
            "SELECT number, ended_by = 'hunt' AND name = '' AND NOT good FROM checkpoint"
            " WHERE ended_by != '' ORDER BY number"
        ).fetchall()
        return [rows[i][0] for i in range(1, len(rows)) if rows[i][1] and rows[i - 1][1]]

    def _thin(self) -> bool:
        """Forget checkpoints by the rule; what they alone knew goes over to the one before."""
        rows = self._db.execute(
            "SELECT number, made_at, name != '' OR good FROM checkpoint ORDER BY number DESC"
        ).fetchall()
        since = time.gmtime(time.time() - KEPT_DAYS * 24 * 3600)
        gone = self._within_hunts()
        rows = [row for row in rows if row[0] not in gone]
        gone += superfluous(rows, time.strftime("%Y-%m-%d", since))
        self._forget(gone)
        return bool(gone)

    def _forget(self, gone: Sequence[int]) -> None:
        for number in sorted(gone, reverse=True):
            older = self._db.execute(
                "SELECT max(number) FROM checkpoint WHERE number < ?", (number,)
            ).fetchone()[0]
            for table in ("was_file", "was_laid", "was_vanilla", "was_folder"):
                if older:
                    self._db.execute(
                        f"UPDATE OR IGNORE {table} SET checkpoint = ? WHERE checkpoint = ?",
                        (older, number),
                    )
                self._db.execute(f"DELETE FROM {table} WHERE checkpoint = ?", (number,))
            self._db.execute("DELETE FROM setting WHERE checkpoint = ?", (number,))
            self._db.execute("DELETE FROM checkpoint WHERE number = ?", (number,))


def _can_be_undone(change: StateChange) -> bool:
    return not change.is_found and bool(
        change.before.files
        or change.laid
        or change.no_longer_laid
        or change.baseline
        or change.new_folders
        or change.gone_folders
        or change.pack_texts is not None
    )


def superfluous(rows: Sequence[tuple[int, str, int]], first_day: str) -> list[int]:
    """Return the checkpoints that need not be kept, by the rule of ``KEPT_IN_FULL`` and ``KEPT_DAYS``.

    ``rows`` are number, time (ISO 8601) and whether it stays in any case, the newest first. ``first_day``
    (ISO 8601) is the first day from which one a day is kept.
    """
    seen: set[str] = {made_at[:10] for _, made_at, _ in rows[:KEPT_IN_FULL]}
    gone = []
    for number, made_at, stays in rows[KEPT_IN_FULL:]:
        day = made_at[:10]
        if not stays and (day in seen or day < first_day):
            gone.append(number)
        seen.add(day)
    return gone


def _same(first: Mapping[PlacePath, Content], second: Mapping[PlacePath, Content]) -> bool:
    return {p: c.digest for p, c in first.items()} == {p: c.digest for p, c in second.items()}


def _columns(content: Content | None) -> tuple[object, ...]:
    if content is None:
        return (None, None, None, None)
    return (content.digest, content.size, content.mode, content.mtime_ns)


def _content(columns: Sequence[Any]) -> Content | None:
    digest, size, mode, mtime_ns = columns
    if digest is None:
        return None
    return Content(digest=Digest(digest), size=size, mode=mode, mtime_ns=mtime_ns)
