"""The shelf: archives by content hash, shared by all packs of a user.

``archives/ab/abcd…`` holds each file's bytes under its BLAKE3 hash; ``shelf.db`` (``index.py``) holds
what was learnt when it was taken. A file enters under its final name only after its checks, so
whatever stands there was whole once.
"""

from __future__ import annotations

import os

from rellum.core.archives.model import Archive, Member
from rellum.core.catalog.model import Release
from rellum.core.catalog.release_rules import ReleaseFile
from rellum.core.durable import flush_folder
from rellum.core.hashing import Digest, sha256_file
from rellum.core.last_word import wrote
from rellum.core.shelf.index import Index, Origin, ShelfEntry, ShelfFault


class Shelf:
    """The store of archives in one folder, which is made when it is not there."""

    def __init__(self, folder: str) -> None:
        """Open the shelf. Raises ShelfFault."""
        self.folder = os.path.abspath(folder)
        self.index = Index(self.folder)

    def close(self) -> None:
        """Close the index."""
        self.index.close()

    def __enter__(self) -> Shelf:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def path_of(self, digest: Digest) -> str:
        """Return where the bytes of a file lie."""
        return os.path.join(self.folder, "archives", digest[:2], digest)

    def has(self, digest: Digest) -> bool:
        """Whether an archive is on the shelf: a file alone may be left of a take that was killed."""
        return self._here("blake3 = ?", digest) is not None

    def find(self, file: ReleaseFile, release: Release | None = None) -> ShelfEntry | None:
        """Return what a card's file names by its hashes, if it is here.

        A file without hashes is the one that somebody stated to be that file of ``release``.
        """
        if not (file.blake3 or file.sha256):
            return self._stated(file, release) if release else None
        if not self.index.may_have(file.blake3, file.sha256):
            return None
        if file.blake3:
            return self._here("blake3 = ?", file.blake3)
        assert file.sha256
        known = self._here("sha256 = ?", file.sha256)
        if known:
            return known
        for entry in self.index.all(
            "sha256 IS NULL AND (size = ? OR ? IS NULL)", file.size, file.size
        ):
            if self._learn_sha256(entry.digest) == file.sha256:
                return self._here("blake3 = ?", entry.digest)
        return None

    def members(self, digest: Digest) -> tuple[Member, ...]:
        """Return the checked members of an archive that is on the shelf; none for a later part."""
        return self.index.members(digest)

    def recall(self, file: ReleaseFile) -> ShelfEntry | None:
        """Return an archive that is not here, but was: ``members`` still knows what is in it."""
        return self.index.recall(file.blake3, file.sha256)

    def open(self, digest: Digest) -> Archive:
        """Open an archive on the shelf for reading. Raises ArchiveFault."""
        from rellum.core.archives.open import open_archive  # readers of all kinds: not for a look

        entry = self.index.one("blake3 = ?", digest)
        if entry is None:
            return open_archive(self.path_of(digest))
        paths = [self.path_of(each) for each in entry.parts or (digest,)]
        return open_archive(paths, entry.name, form=entry.form, encoding=entry.encoding)

    def forget(self, digest: Digest) -> None:
        """Take a file off the shelf. Raises OSError."""
        self.index.forget(digest)
        try:
            os.unlink(self.path_of(digest))
        except FileNotFoundError:
            pass

    def parts(self, key: str, release: str) -> list[ShelfEntry]:
        """Return the parts of a release's archive that are here, the last taken first."""
        found = [
            each for each in self.index.all("part_of = ?", key) if each.origin.label == release
        ]
        found.sort(key=lambda each: each.taken_at, reverse=True)
        return [each for each in found if os.path.exists(self.path_of(each.digest))]

    def set_origin(self, digest: Digest, origin: Origin) -> None:
        """Remember which release a file is of, and how it can be had again."""
        self.index.set_origin(digest, origin)

    def incoming(self, name: str = "") -> str:
        """Return a path on the shelf's disk for a file that is not yet on the shelf."""
        return os.path.join(self.folder, f"incoming-{os.getpid()}{name}")

    def check_space(self, size: int) -> None:
        """Raise ShelfFault where there is not enough space for that many bytes."""
        import shutil

        free = shutil.disk_usage(self.folder).free
        if size > free:
            raise ShelfFault(
                f"the shelf {self.folder} has {free:,} bytes free, and {size:,} are needed",
                hint="Make room ('rellum shelf trim'), or set RELLUM_SHELF to a folder on a larger "
                "disk.",
            )

    def keep(self, incoming: str, digest: Digest) -> None:
        """Give a file on the shelf's disk its place there. Raises OSError."""
        target = self.path_of(digest)
        os.makedirs(os.path.dirname(target), exist_ok=True)
        os.replace(incoming, target)
        wrote()
        flush_folder(os.path.dirname(target))

    def _here(self, condition: str, value: str) -> ShelfEntry | None:
        entry = self.index.one(condition, value)
        return entry if entry and os.path.exists(self.path_of(entry.digest)) else None

    def _stated(self, file: ReleaseFile, release: Release) -> ShelfEntry | None:
        digest = self.index.stated(release.mod, release.version.text, release.build, file.name)
        return self._here("blake3 = ?", digest) if digest else None

    def _learn_sha256(self, digest: Digest) -> str | None:
        try:
            sha256 = sha256_file(self.path_of(digest))
        except OSError:
            return None
        self.index.update(digest, "sha256", sha256)
        return sha256
