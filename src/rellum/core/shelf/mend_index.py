"""Rebuilding a damaged index of the shelf from the archives."""

from __future__ import annotations

import os
import shutil
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing, suppress
from dataclasses import dataclass, replace
from typing import Any

from rellum.core.archives.model import ArchiveFault, Member
from rellum.core.archives.open import open_archive
from rellum.core.database import SEAL, connect_reading
from rellum.core.hashing import Digest, hash_file
from rellum.core.progress import Listener, Progress, silent
from rellum.core.shelf.index import COLUMNS, INDEX_NAME, Index, IndexDamaged, ShelfEntry, entry_of

UNFINISHED = f"{INDEX_NAME}.unfinished"


@dataclass(frozen=True, slots=True, kw_only=True)
class Mended:
    """A rebuilt index. ``damaged`` is the path of the old one.

    ``files`` are in the new one; ``nameless`` of them have lost their names and where they came from.
    ``left_out`` are paths of files that are no archive, or not what their name says.
    """

    damaged: str
    files: int
    nameless: int
    left_out: tuple[str, ...]


def mend_index(folder: str, listen: Listener = silent) -> Mended | None:
    """Rebuild the index of a shelf if it is damaged; return None if it is intact.

    Raises ShelfFault, OSError; then the old one is where it was.
    """
    try:
        Index(folder).close()
        return None
    except IndexDamaged:
        if not os.access(folder, os.W_OK):
            raise
    file = os.path.join(folder, INDEX_NAME)
    aside = f"{file}.damaged-{time.strftime('%Y%m%d-%H%M%S')}"
    _forget(os.path.join(folder, UNFINISHED))
    with closing(_Old(file)) as old, closing(Index(folder, UNFINISHED)) as index:
        mended = _fill(folder, index, old, listen)
    shutil.copy2(file, aside)
    _forget(file, but_itself=True)
    os.replace(os.path.join(folder, UNFINISHED), file)
    _forget(os.path.join(folder, UNFINISHED))
    return Mended(damaged=aside, files=mended[0], nameless=mended[1], left_out=mended[2])


def _forget(file: str, *, but_itself: bool = False) -> None:
    for ending in ("-journal", SEAL, *([] if but_itself else [""])):
        with suppress(FileNotFoundError):
            os.unlink(file + ending)


class _Old:
    """What can still be read of a damaged index."""

    def __init__(self, file: str) -> None:
        self._db = connect_reading(file)

    def close(self) -> None:
        self._db.close()

    def entry(self, digest: Digest) -> ShelfEntry | None:
        """Return what is recorded of a file, if that can be what was written."""
        rows = self._rows(f"SELECT {COLUMNS} FROM archive WHERE blake3 = ?", digest)
        try:
            entry = entry_of(rows[0])
        except (IndexError, ValueError, TypeError):
            return None
        texts = (entry.name, entry.encoding, entry.part_of, entry.taken_at)
        return entry if entry.name and all(isinstance(each, str) for each in texts) else None

    def packs(self) -> list[str]:
        """Return the folders of packs that are still there."""
        rows = self._rows("SELECT folder FROM pack")
        return [folder for (folder,) in rows if isinstance(folder, str) and os.path.isdir(folder)]

    def stated(self, digest: Digest) -> list[tuple[Any, ...]]:
        """Return which files of which releases a file was said to be."""
        return self._rows("SELECT mod, version, build, name FROM stated WHERE blake3 = ?", digest)

    def _rows(self, query: str, *values: str) -> list[tuple[Any, ...]]:
        with suppress(sqlite3.Error, UnicodeDecodeError):
            return self._db.execute(query, values).fetchall()
        return []


def _fill(
    folder: str, index: Index, old: _Old, listen: Listener
) -> tuple[int, int, tuple[str, ...]]:
    """Record every file of the shelf; return how many, how many without a name, and what was left out."""
    count = nameless = 0
    left_out = []
    paths = list(_files(os.path.join(folder, "archives")))
    for number, path in enumerate(paths):
        digest = Digest(os.path.basename(path))
        known = old.entry(digest)
        try:
            if hash_file(path) != digest:
                raise ArchiveFault(f"{path} is not what its name says")
            entry, members = _read(folder, digest, known)
        except ArchiveFault:
            left_out.append(path)
            continue
        index.add(entry, members)
        for mod, version, build, name in old.stated(digest):
            index.state(mod, version, build, name, digest)
        count += 1
        nameless += known is None
        listen(
            Progress(
                stage="reading",
                files=number + 1,
                total_files=len(paths),
                bytes=0,
                total_bytes=0,
            )
        )
    for pack in old.packs():
        index.add_pack(pack)
    return count, nameless, tuple(left_out)


def _read(
    folder: str, digest: Digest, known: ShelfEntry | None
) -> tuple[ShelfEntry, tuple[Member, ...]]:
    """Read an archive's members again, and everything else that can be found out. Raises ArchiveFault."""
    entry = known or ShelfEntry(digest=digest, size=0, sha256=None, name=digest[:16], form=None)
    paths = [os.path.join(folder, "archives", each[:2], each) for each in entry.parts or (digest,)]
    entry = replace(entry, size=os.path.getsize(paths[0]), sha256=None)
    if known and known.form is None:
        return entry, ()  # a part of an archive
    archive = open_archive(paths, entry.name, form=entry.form, encoding=entry.encoding)
    members = archive.check()
    return replace(entry, form=archive.form, encoding=archive.encoding), members


def _files(archives: str) -> Iterator[str]:
    for folder, folders, names in os.walk(archives):
        folders.sort()
        yield from (os.path.join(folder, name) for name in sorted(names) if len(name) == 64)
