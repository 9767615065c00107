"""Backups: saves, worlds and settings, kept by content apart from checkpoints.

They lie in ``.rellum/backups``: ``backups.db`` (SQLite) and a file for each content, named by its BLAKE3
hash. A row of ``file`` says that a path had a content from one backup to another, so that a backup costs what
changed since the one before. A content is on disk before the row that names it; a content without a row is
left over from an interruption, and goes with the next thinning.
"""

from __future__ import annotations

import json
import os
import sqlite3
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Any

from rellum.core.durable import flush_filesystem
from rellum.core.hashing import Digest, hash_bytes, hash_file
from rellum.core.pack.backup import (
    Backup,
    BackupFault,
    Circumstances,
    Made,
    SeenFile,
    storable_ns,
    superfluous,
)
from rellum.core.pack.backup_look import Look
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath

_SMALL = 1 << 20
"""Bytes; files up to this size are read into memory."""
_SCHEMA = """
CREATE TABLE backup (
    number INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL, made_at TEXT NOT NULL,
    reason TEXT NOT NULL, variant TEXT NOT NULL, game TEXT NOT NULL, releases TEXT NOT NULL,
    files INTEGER NOT NULL, bytes INTEGER NOT NULL, changed INTEGER NOT NULL
);
CREATE TABLE file (
    path TEXT NOT NULL, digest TEXT NOT NULL, size INTEGER NOT NULL, mode INTEGER NOT NULL,
    mtime_ns INTEGER NOT NULL, ctime_ns INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER,
    PRIMARY KEY (path, first)
) WITHOUT ROWID;
CREATE INDEX standing ON file (last);
"""
_LOOK = """
DROP TABLE IF EXISTS look;
CREATE TABLE look (paths TEXT NOT NULL, marks BLOB NOT NULL);
PRAGMA user_version = 2;
"""


class Backups:
    """The backups of a pack, open."""

    def __init__(self, folder: str) -> None:
        """Open them, or begin them. Raises BackupFault, OSError."""
        self.folder = folder
        self.file = os.path.join(folder, "backups.db")
        is_new = not os.path.exists(self.file)
        if is_new:
            os.makedirs(folder, exist_ok=True)
        try:
            self._db = sqlite3.connect(self.file, timeout=10)
            self._db.execute("PRAGMA synchronous = FULL")
            # One flush less than with a new file.
            self._db.execute("PRAGMA journal_mode = TRUNCATE")
            version = self._db.execute("PRAGMA user_version").fetchone()[0]
            if version < 2:  # only the look was another before: all is looked at once more
                script = _LOOK if version else _SCHEMA + _LOOK
                self._db.executescript(f"BEGIN; {script} COMMIT;")
        except sqlite3.Error as error:
            raise _damaged(self.file, error) from error

    def __enter__(self) -> Backups:
        return self

    def __exit__(self, *error: object) -> None:
        self._db.close()

    def all(self) -> list[Backup]:
        """Return all backups, the newest first. Raises BackupFault."""
        try:
            rows = self._db.execute("SELECT * FROM backup ORDER BY number DESC").fetchall()
            return list(map(self._backup, rows))
        except (sqlite3.Error, ValueError) as error:
            raise _damaged(self.file, error) from error

    @staticmethod
    def _backup(row: Sequence[Any]) -> Backup:
        number, name, made_at, reason, variant, game, releases, files, size, changed = row
        return Backup(
            number=number,
            name=name,
            made_at=made_at,
            reason=reason,
            variant=variant,
            game=game,
            releases=tuple(json.loads(releases)),
            files=files,
            bytes=size,
            changed=changed,
        )

    def find(self, name: str) -> Backup:
        """Return a backup by number or name; an empty text means the newest. Raises BackupFault."""
        found = self._rows(
            "SELECT * FROM backup WHERE ?1 IN ('', name, CAST(number AS TEXT)) ORDER BY number DESC"
            " LIMIT 1",
            name,
        )
        if found:
            return self._backup(found[0])
        raise BackupFault(
            f"there is no backup {name!r}" if name else "there is no backup yet",
            hint="'rellum backup list' lists them; 'rellum backup' makes one.",
        )

    def newest(self) -> Backup | None:
        """Return the newest backup; None where there is none. Raises BackupFault."""
        rows = self._rows("SELECT * FROM backup ORDER BY number DESC LIMIT 1")
        return self._backup(rows[0]) if rows else None

    def names(self) -> set[str]:
        """Return the names that backups have. Raises BackupFault."""
        return {name for (name,) in self._rows("SELECT name FROM backup WHERE name != ''")}

    def last_used(self) -> dict[str, str]:
        """Return when each variant was last kept (RFC 3339). Raises BackupFault."""
        return dict(self._rows("SELECT variant, max(made_at) FROM backup GROUP BY variant"))

    def newest_of(self, variant: str) -> Backup | None:
        """Return the newest backup that was made in a variant. Raises BackupFault."""
        rows = self._rows(
            "SELECT * FROM backup WHERE variant = ? ORDER BY number DESC LIMIT 1", variant
        )
        return self._backup(rows[0]) if rows else None

    def files_of(self, number: int) -> dict[PlacePath, Content]:
        """Return what a backup has, by path. Raises BackupFault."""
        rows = self._rows(
            "SELECT path, digest, size, mode, mtime_ns FROM file"
            " WHERE first <= ?1 AND (last IS NULL OR last >= ?1) ORDER BY path",
            number,
        )
        return {PlacePath(path): Content(Digest(digest), *rest) for path, digest, *rest in rows}

    def variants_of(self, paths: Iterable[PlacePath]) -> dict[PlacePath, str]:
        """Return the variant in which each file was first kept as it was last kept."""
        found: dict[PlacePath, str] = {}
        for path in paths:
            rows = self._rows(
                "SELECT variant FROM file JOIN backup ON number >= first"
                " WHERE path = ? AND last IS NULL ORDER BY number LIMIT 1",
                path,
            )
            if rows:
                found[path] = rows[0][0]
        return found

    def path_of(self, digest: Digest) -> str:
        """Return where a content lies, or would."""
        return os.path.join(self.folder, digest)

    def make(
        self,
        seen: Mapping[PlacePath, SeenFile],
        about: Callable[[], Circumstances],
        name: str = "",
        *,
        always: bool = False,
    ) -> Made:
        """Keep what changed since the newest backup, durably; without a name, nothing where nothing did.

        ``always``: it is a backup of its own although nothing changed.

        A file that is written to meanwhile is left as it was last kept, and named. Raises OSError,
        BackupFault.
        """
        try:
            return self._make(seen, about, name, always=always)
        except sqlite3.Error as error:
            raise _damaged(self.file, error) from error

    def _make(
        self,
        seen: Mapping[PlacePath, SeenFile],
        about: Callable[[], Circumstances],
        name: str,
        *,
        always: bool,
    ) -> Made:
        newest = self._one("SELECT coalesce(max(number), 0), ? FROM backup", "")[0]
        try:
            look = Look.at(seen)
        except OverflowError:  # a file's time beyond what the database holds
            seen = {path: each.storable() for path, each in seen.items()}
            look = Look.at(seen)
        row = self._db.execute("SELECT paths, marks FROM look").fetchone()
        if newest and row == look and not name and not always:
            return Made(newest, is_new=False)
        changed = sorted(look.unlike(Look(*row)) if row else seen)
        with self._db:
            made = self._made(seen, changed, about, name, newest, always=always)
            if made.in_use:  # the next time finds it changed again
                look = Look.at({path: seen[path] for path in seen.keys() - set(made.in_use)})
            self._db.execute("DELETE FROM look")
            self._db.execute("INSERT INTO look VALUES (?, ?)", look)
        if made.is_new:
            self.thin()
        return made

    def _made(
        self,
        seen: Mapping[PlacePath, SeenFile],
        changed: Sequence[PlacePath],
        about: Callable[[], Circumstances],
        name: str,
        newest: int,
        *,
        always: bool,
    ) -> Made:
        """Do what ``make`` says, as part of its transaction."""
        standing = self._db.execute("SELECT path FROM file WHERE last IS NULL")
        gone = [PlacePath(path) for (path,) in standing if path not in seen]
        if newest and not changed and not gone and not always:
            is_free = self._one("SELECT name = '', 0 FROM backup WHERE number = ?", newest)[0]
            if name and is_free:
                self._db.execute("UPDATE backup SET name = ? WHERE number = ?", (name, newest))
            if not name or is_free:
                return Made(newest, is_new=False)
        taken, in_use = self._take_in(changed, seen)
        known = self._digests_of(taken)
        really = [path for path, digest in taken.items() if known.get(path) != digest]
        if newest and not really and not gone and not name and not always:
            self._restamp(taken, seen)
            return Made(newest, is_new=False, in_use=tuple(in_use))
        said = about()
        cursor = self._db.execute(
            "INSERT INTO backup (name, made_at, reason, variant, game, releases, files, bytes, changed)"
            " VALUES (?, ?, ?, ?, ?, ?, 0, 0, ?)",
            (
                name,
                _now(),
                said.reason,
                said.variant,
                said.game,
                json.dumps(said.releases),
                len(really),
            ),
        )
        number = cursor.lastrowid or 0
        before = [(newest, path) for path in (*taken, *gone)]
        self._db.executemany("UPDATE file SET last = ? WHERE path = ? AND +last IS NULL", before)
        self._db.executemany(
            "INSERT OR REPLACE INTO file VALUES (?, ?, ?, ?, ?, ?, ?, NULL)",
            [(path, digest, *seen[path][1:], number) for path, digest in taken.items()],
        )
        self._db.execute(
            "UPDATE backup SET (files, bytes) ="
            " (SELECT count(*), coalesce(sum(size), 0) FROM file WHERE last IS NULL) WHERE number = ?",
            (number,),
        )
        return Made(number, True, tuple(really), tuple(gone), tuple(in_use))

    def _digests_of(self, paths: Iterable[PlacePath]) -> dict[PlacePath, Digest]:
        """Return what these paths had when they were last kept."""
        query = "SELECT digest FROM file WHERE path = ? AND +last IS NULL"
        found = ((path, self._db.execute(query, (path,)).fetchone()) for path in paths)
        return {path: Digest(row[0]) for path, row in found if row}

    def _restamp(
        self, taken: Mapping[PlacePath, Digest], seen: Mapping[PlacePath, SeenFile]
    ) -> None:
        """Note new times of files whose content is as it was. Part of the caller's transaction."""
        self._db.executemany(
            "UPDATE file SET (size, mode, mtime_ns, ctime_ns) = (?, ?, ?, ?)"
            " WHERE path = ? AND +last IS NULL",
            [(*seen[path][1:], path) for path in taken],
        )

    def _take_in(
        self, paths: Sequence[PlacePath], seen: Mapping[PlacePath, SeenFile]
    ) -> tuple[dict[PlacePath, Digest], list[PlacePath]]:
        """Copy files into the store, durably; return their hashes, and those that changed meanwhile."""
        taken: dict[PlacePath, Digest] = {}
        in_use: list[PlacePath] = []
        written: list[str] = []
        for path in paths:
            each = seen[path]
            digest = self._copy_in(each, written)
            if digest is None:
                in_use.append(path)
            else:
                taken[path] = digest
        if written:
            flush_filesystem(self.folder, written, [self.folder])
        return taken, in_use

    def _copy_in(self, each: SeenFile, written: list[str]) -> Digest | None:
        """Copy a file into the store; return its hash, None where it changes meanwhile or is gone."""
        incoming = os.path.join(self.folder, "incoming")
        content = b""
        try:
            if each.size <= _SMALL:  # read once
                with open(each.file, "rb", buffering=0) as file:
                    content = file.read(_SMALL + 1)
                    status = os.fstat(file.fileno())
                digest = hash_bytes(content)
            else:
                from rellum.core.pack.copying import copy_file  # of small files, it is not needed

                copy_file(each.file, incoming)
                digest = hash_file(incoming)
                status = os.lstat(each.file)
        except FileNotFoundError:
            return None
        if (status.st_size, storable_ns(status.st_mtime_ns)) != (
            each.size,
            storable_ns(each.mtime_ns),
        ):
            return None
        target = self.path_of(digest)
        if os.path.exists(target) and hash_file(target) == digest:
            return digest
        if (
            each.size <= _SMALL
        ):  # torn by a crash, it is not what its name says, and is written again
            with open(target, "wb", buffering=0) as file:
                file.write(content)
        else:
            os.replace(incoming, target)
        written.append(target)
        return digest

    def drop(self, numbers: Iterable[int]) -> int:
        """Forget backups; return the bytes that this freed. Raises BackupFault, OSError.

        Contents that no backup ever had go as well: of one that was being made when it was killed.
        """
        self._forget(numbers)
        try:
            needed = {digest for (digest,) in self._db.execute("SELECT DISTINCT digest FROM file")}
        except sqlite3.Error as error:
            raise _damaged(self.file, error) from error
        names = (each for each in os.listdir(self.folder) if not each.startswith("backups.db"))
        return self._delete(name for name in names if name not in needed)

    def _forget(self, numbers: Iterable[int]) -> set[str]:
        """Forget backups; return the contents that no other has. Raises BackupFault."""
        gone = (
            " FROM file WHERE last IS NOT NULL AND NOT EXISTS (SELECT 1 FROM backup"
            " WHERE number >= first AND number <= last)"
        )
        try:
            with self._db:
                self._db.executemany(
                    "DELETE FROM backup WHERE number = ?", [(each,) for each in numbers]
                )
                left = {digest for (digest,) in self._db.execute(f"SELECT digest{gone}")}
                self._db.execute(f"DELETE{gone}")
                still = self._db.execute(
                    "SELECT DISTINCT digest FROM file WHERE digest IN (SELECT value FROM json_each(?))",
                    (json.dumps(sorted(left)),),
                )
                return left - {digest for (digest,) in still}
        except sqlite3.Error as error:
            raise _damaged(self.file, error) from error

    def _delete(self, names: Iterable[str]) -> int:
        """Delete contents; return their bytes. Raises OSError."""
        freed = 0
        for name in names:
            file = os.path.join(self.folder, name)
            with suppress(FileNotFoundError):
                freed += os.path.getsize(file)
                os.unlink(file)
        return freed

    def would_free(self, numbers: Iterable[int]) -> int:
        """Return the bytes that dropping these would free. Raises BackupFault."""
        gone = set(numbers)
        stay = [row[0] for row in self._rows("SELECT number FROM backup") if row[0] not in gone]
        needed, sizes = set(), {}
        for digest, size, first, last in self._rows("SELECT digest, size, first, last FROM file"):
            sizes[digest] = size
            if last is None or any(first <= number <= last for number in stay):
                needed.add(digest)
        return sum(size for digest, size in sizes.items() if digest not in needed)

    def thin(self) -> None:
        """Forget backups by the rule: the last, one a day, one a month; those with a name stay.

        So does the newest of each variant: it has what comes back with that.
        """
        rows = self._rows(
            "SELECT number, made_at, name != '' OR number IN"
            " (SELECT max(number) FROM backup GROUP BY variant) FROM backup ORDER BY number DESC"
        )
        if gone := superfluous(rows, time.time()):
            self._delete(self._forget(gone))

    def rename_variant(self, name: str, new: str) -> None:
        """Let the backups of a variant be those of its new name. Raises BackupFault."""
        try:
            with self._db:
                self._db.execute("UPDATE backup SET variant = ? WHERE variant = ?", (new, name))
        except sqlite3.Error as error:
            raise _damaged(self.file, error) from error

    def damaged(self) -> Iterator[tuple[PlacePath, int]]:
        """Yield each path whose kept content is lost or damaged, with the newest backup that has it so."""
        rows = self._rows("SELECT digest, path, coalesce(last, 0) FROM file ORDER BY digest")
        bad: dict[str, bool] = {}
        newest = self._one("SELECT coalesce(max(number), 0), ? FROM backup", "")[0]
        for digest, path, last in rows:
            if digest not in bad:
                bad[digest] = not self.is_whole(Digest(digest))
            if bad[digest]:
                yield PlacePath(path), last or newest

    def is_whole(self, digest: Digest) -> bool:
        """Whether a content is there, and is what its name says."""
        file = self.path_of(digest)
        return os.path.isfile(file) and hash_file(file) == digest

    def _rows(self, query: str, *values: object) -> list[tuple[Any, ...]]:
        try:
            return self._db.execute(query, values).fetchall()
        except sqlite3.Error as error:
            raise _damaged(self.file, error) from error

    def _one(self, query: str, value: object) -> tuple[int, ...]:
        row: tuple[int, ...] = self._db.execute(query, (value,)).fetchone()
        return row


def _now() -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())


def _damaged(file: str, error: Exception) -> BackupFault:
    return BackupFault(
        f"{file} is damaged: {error}",
        hint="The kept files lie beside it, named by their hash. Move the folder away, and 'rellum backup' "
        "begins a new one.",
    )
