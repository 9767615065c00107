"""The shelf: archives by content hash, shared by all packs of a user.

``archives/ab/abcd…`` holds each archive's bytes under its BLAKE3 hash; ``shelf.db`` (SQLite) holds
what was learnt when it was taken: name, size, hashes and the hash of every member. A file enters
under its final name only after its checks, so whatever stands there was whole once.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import sqlite3
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime

from blake3 import blake3

from rellum.core.catalog.model import ReleaseFile
from rellum.core.durable import flush_folder
from rellum.core.errors import UserError
from rellum.core.hashing import CHUNK_BYTES, Digest, sha256_file
from rellum.core.paths import MemberPath
from rellum.core.progress import Listener, Progress, silent
from rellum.core.shelf.archives import Archive, Member, open_archive

SCHEMA_VERSION = 1

_SCHEMA = """
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


class ShelfFault(UserError):
    """The shelf cannot be used: its folder, its index, or the space it has."""

    code = "shelf-fault"


@dataclass(frozen=True, slots=True, kw_only=True)
class ShelfEntry:
    """One archive on the shelf. ``size`` is in bytes; ``sha256`` only where one was asked for."""

    digest: Digest
    size: int
    sha256: str | None
    name: str


def shelf_folder() -> str:
    """Return the user's shelf: ``RELLUM_SHELF``, or the user's data folder."""
    named = os.environ.get("RELLUM_SHELF")
    if named:
        return os.path.abspath(named)
    import platformdirs

    return platformdirs.user_data_path("rellum", appauthor=False).joinpath("shelf").as_posix()


class Shelf:
    """The store of archives in one folder, which is made when it is not there."""

    def __init__(self, folder: str) -> None:
        self.folder = os.path.abspath(folder)
        try:
            os.makedirs(os.path.join(self.folder, "archives"), exist_ok=True)
            self._db = sqlite3.connect(os.path.join(self.folder, "shelf.db"), timeout=30)
            version = self._db.execute("PRAGMA user_version").fetchone()[0]
            if version == 0:
                self._db.executescript(
                    f"BEGIN; {_SCHEMA} PRAGMA user_version = {SCHEMA_VERSION}; COMMIT;"
                )
        except (OSError, sqlite3.Error) as error:
            raise ShelfFault(
                f"the shelf {self.folder} cannot be used: {error}",
                hint="Set RELLUM_SHELF to a folder that can be written.",
            ) from error
        if version > SCHEMA_VERSION:
            raise ShelfFault(
                f"the shelf {self.folder} was written by a newer Rellum",
                hint="Update Rellum, or set RELLUM_SHELF to another folder.",
            )

    def close(self) -> None:
        """Close the index."""
        self._db.close()

    def __enter__(self) -> Shelf:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def path_of(self, digest: Digest) -> str:
        """Return where the bytes of an archive lie."""
        return os.path.join(self.folder, "archives", digest[:2], digest)

    def find(self, file: ReleaseFile) -> ShelfEntry | None:
        """Return the archive that a card's file names by its hashes, if it is here."""
        if file.blake3:
            return self._one("blake3 = ?", file.blake3)
        if not file.sha256:
            return None
        known = self._one("sha256 = ?", file.sha256)
        if known:
            return known
        for (digest,) in self._db.execute(
            "SELECT blake3 FROM archive WHERE sha256 IS NULL AND (size = ? OR ? IS NULL)",
            (file.size, file.size),
        ).fetchall():
            if self._learn_sha256(Digest(digest)) == file.sha256:
                return self._one("blake3 = ?", digest)
        return None

    def members(self, digest: Digest) -> tuple[Member, ...]:
        """Return the checked members of an archive that is on the shelf."""
        row = self._db.execute("SELECT members FROM archive WHERE blake3 = ?", (digest,)).fetchone()
        return tuple(
            Member(
                path=MemberPath(path), size=size, digest=Digest(hashed), executable=bool(executable)
            )
            for path, size, hashed, executable in json.loads(row[0])
        )

    def open(self, digest: Digest) -> Archive:
        """Open an archive on the shelf for reading. Raises ArchiveFault."""
        entry = self._one("blake3 = ?", digest)
        return open_archive(self.path_of(digest), name=entry.name if entry else "")

    def forget(self, digest: Digest) -> None:
        """Take an archive off the shelf. Raises OSError."""
        with self._db:
            self._db.execute("DELETE FROM archive WHERE blake3 = ?", (digest,))
        os.unlink(self.path_of(digest))

    def take(
        self, path: str, *, with_sha256: bool, listen: Listener = silent
    ) -> tuple[ShelfEntry, bool]:
        """Copy an archive in, hashed as it is copied, then checked in full; the source is kept.

        Returns it, and whether it is new here; one that is not is only hashed. Raises ArchiveFault,
        ShelfFault; then nothing of it stays on the shelf.
        """
        open_archive(path)  # its list of members alone tells most of what can be wrong
        size = os.path.getsize(path)
        self._check_space(size)
        incoming = os.path.join(self.folder, f"incoming-{os.getpid()}")
        try:
            digest, sha256 = _copy_hashed(path, incoming, size, with_sha256, listen)
            known = self._one("blake3 = ?", digest)
            if known and os.path.exists(self.path_of(digest)):
                if sha256 and not known.sha256:
                    self._set_sha256(digest, sha256)
                return self._one("blake3 = ?", digest) or known, False
            members = open_archive(incoming, name=path).check(listen)
            self._keep(incoming, digest)
        except OSError as error:
            raise ShelfFault(
                f"{path} could not be put on the shelf {self.folder}: {error.strerror}",
                hint="Nothing was kept of it. Make room or set RELLUM_SHELF, and take it again.",
            ) from error
        finally:
            if os.path.exists(incoming):
                os.unlink(incoming)
        return self._record(digest, size, sha256, os.path.basename(path), members), True

    def _check_space(self, size: int) -> None:
        free = shutil.disk_usage(self.folder).free
        if size > free:
            raise ShelfFault(
                f"the shelf {self.folder} has {free:,} bytes free, and the archive has {size:,}",
                hint="Make room, or set RELLUM_SHELF to a folder on a larger disk.",
            )

    def _keep(self, incoming: str, digest: Digest) -> None:
        target = self.path_of(digest)
        os.makedirs(os.path.dirname(target), exist_ok=True)
        os.replace(incoming, target)
        flush_folder(os.path.dirname(target))

    def _record(
        self,
        digest: Digest,
        size: int,
        sha256: str | None,
        name: str,
        members: tuple[Member, ...],
    ) -> ShelfEntry:
        listing = json.dumps([[m.path, m.size, m.digest, int(m.executable)] for m in members])
        with self._db:
            self._db.execute(
                "INSERT OR REPLACE INTO archive VALUES (?, ?, ?, ?, ?, ?)",
                (digest, size, sha256, name, datetime.now(UTC).isoformat(), listing),
            )
        return ShelfEntry(digest=digest, size=size, sha256=sha256, name=name)

    def _one(self, condition: str, value: str) -> ShelfEntry | None:
        with closing(
            self._db.execute(
                f"SELECT blake3, size, sha256, name FROM archive WHERE {condition}", (value,)
            )
        ) as rows:
            row = rows.fetchone()
        if row is None or not os.path.exists(self.path_of(Digest(row[0]))):
            return None
        return ShelfEntry(digest=Digest(row[0]), size=row[1], sha256=row[2], name=row[3])

    def _learn_sha256(self, digest: Digest) -> str | None:
        try:
            sha256 = sha256_file(self.path_of(digest))
        except OSError:
            return None
        self._set_sha256(digest, sha256)
        return sha256

    def _set_sha256(self, digest: Digest, sha256: str) -> None:
        with self._db:
            self._db.execute("UPDATE archive SET sha256 = ? WHERE blake3 = ?", (sha256, digest))


def _copy_hashed(
    source: str, target: str, size: int, with_sha256: bool, listen: Listener
) -> tuple[Digest, str | None]:
    """Copy a file durably, hashing each piece on its way. Raises OSError."""
    hasher, published = blake3(), hashlib.sha256() if with_sha256 else None
    done = 0
    with open(source, "rb") as reader, open(target, "wb") as writer:
        while piece := reader.read(CHUNK_BYTES):
            hasher.update(piece)
            if published:
                published.update(piece)
            writer.write(piece)
            done += len(piece)
            listen(Progress(stage="taking", files=0, total_files=0, bytes=done, total_bytes=size))
        writer.flush()
        os.fsync(writer.fileno())
    return Digest(hasher.hexdigest()), published.hexdigest() if published else None
