"""The shelf: archives by content hash, shared by all packs of a user.

``archives/ab/abcd…`` holds each file's bytes under its BLAKE3 hash; ``shelf.db`` (``index.py``) holds
what was learnt when it was taken. A file enters under its final name only after its checks, so
whatever stands there was whole once.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Final

from rellum.core.archives.joined import Ready, at_once
from rellum.core.archives.model import STANDARD_LIMITS, Archive, Form, Limits, Member
from rellum.core.archives.open import open_archive
from rellum.core.archives.parts import Part, PartSet, gather, part_by_name, part_of
from rellum.core.catalog.model import Release, ReleaseFile
from rellum.core.durable import flush_file, flush_folder
from rellum.core.hashing import Digest, hash_file, sha256_file
from rellum.core.progress import Listener, Progress, silent
from rellum.core.shelf.index import Index, Origin, ShelfEntry, ShelfFault
from rellum.core.shelf.intake import By, Hashes, Passage, free_bytes, hash_of

Approve = Callable[[Hashes], None]
"""Looks at a file's hashes before it is kept, and raises what is wrong with them."""


def _approve(_: Hashes) -> None:
    """Nothing is known that the hashes could be compared with."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Taking:
    """How a file is taken. ``also`` names hashes beside BLAKE3; ``form`` None: its content tells.

    ``hashes`` are those of a file that was hashed on its way here: it is not read for that again,
    and moved.
    """

    name: str = ""
    also: frozenset[str] = frozenset()
    by: By = "copy"
    limits: Limits = STANDARD_LIMITS
    form: Form | None = None
    approve: Approve = _approve
    hashes: Hashes | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Took:
    """A file that is on the shelf now, and whether it is new there."""

    entry: ShelfEntry
    is_new: bool
    hashes: Hashes


SIMPLY: Final = Taking()


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

    def find(self, file: ReleaseFile, release: Release | None = None) -> ShelfEntry | None:
        """Return what a card's file names by its hashes, if it is here.

        A file without hashes is the one that somebody stated to be that file of ``release``.
        """
        if file.blake3:
            return self._here("blake3 = ?", file.blake3)
        if not file.sha256:
            return self._stated(file, release) if release else None
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

    def open(self, digest: Digest) -> Archive:
        """Open an archive on the shelf for reading. Raises ArchiveFault."""
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

    def take(self, path: str, how: Taking = SIMPLY, listen: Listener = silent) -> Took:
        """Take a whole archive in: its bytes are read once, hashed, copied and checked in full.

        Raises ArchiveFault, ShelfFault, StillComing and what ``how.approve`` raises; then nothing of
        it stays on the shelf and the source is as it was.
        """
        name = how.name or os.path.basename(path)
        if known := self._known(path, how):
            return self._again(known, path, how)
        # Its list of members alone tells most of what can be wrong, where it has one.
        archive = open_archive(path, name=path, limits=how.limits, form=how.form)

        def check(ready: Ready) -> tuple[Member, ...]:
            behind = open_archive(
                path,
                name if archive.form == "file" else path,
                limits=how.limits,
                form=archive.form,
                encoding=archive.encoding,
                ready=ready,
            )
            found = behind.check()
            archive.encoding = behind.encoding
            return found

        hashes, members = self._carry(path, how, check, listen)
        entry = ShelfEntry(
            digest=hashes.digest,
            size=hashes.size,
            sha256=hashes.others.get("sha256"),
            name=name,
            form=archive.form,
            encoding=archive.encoding,
        )
        self.index.add(entry, members)
        _let_go(path, how.by)
        return Took(entry=entry, is_new=True, hashes=hashes)

    def take_part(
        self, path: str, part: Part, how: Taking = SIMPLY, listen: Listener = silent
    ) -> Took:
        """Take one part of an archive in: hashed and kept; looked into when all parts are there.

        Raises ShelfFault, StillComing and what ``how.approve`` raises.
        """
        if known := self._known(path, how):
            if not known.part_of:
                self.index.update(known.digest, "part_of", part.key)
            return self._again(known, path, how)
        hashes, _ = self._carry(path, how, lambda ready: (), listen)
        entry = ShelfEntry(
            digest=hashes.digest,
            size=hashes.size,
            sha256=hashes.others.get("sha256"),
            name=how.name or os.path.basename(path),
            form=None,
            part_of=part.key,
        )
        self.index.add(entry, ())
        _let_go(path, how.by)
        return Took(entry=entry, is_new=True, hashes=hashes)

    def parts(self, key: str) -> list[ShelfEntry]:
        """Return the parts of an archive that are here, in no order."""
        found = self.index.all("part_of = ?", key)
        return [each for each in found if os.path.exists(self.path_of(each.digest))]

    def gathered(self, part: Part, named: tuple[str, ...] = ()) -> PartSet:
        """Return how far an archive in parts is here; ``named`` are its parts' names by its card."""
        found = []
        for entry in self.parts(part.key):
            path = self.path_of(entry.digest)
            its_part = part_by_name(entry.name) or part_of(path, entry.name)
            if its_part is None or its_part.key != part.key:
                continue
            found.append((its_part, path))
        return gather(found, named)

    def complete(self, ordered: tuple[str, ...], name: str, limits: Limits) -> ShelfEntry:
        """Check the archive that all its parts give together; return the first, which has its members.

        Raises ArchiveFault; the parts are kept.
        """
        digests = tuple(Digest(os.path.basename(path)) for path in ordered)
        archive = open_archive(ordered, name, limits=limits)
        members = archive.check()
        first = self.index.one("blake3 = ?", digests[0])
        assert first is not None
        whole = replace(first, form=archive.form, encoding=archive.encoding, parts=digests)
        return self.index.add(whole, members)

    def set_origin(self, digest: Digest, origin: Origin) -> None:
        """Remember which release a file is of, and how it can be had again."""
        self.index.set_origin(digest, origin)

    def incoming(self, name: str = "") -> str:
        """Return a path on the shelf's disk for a file that is not yet on the shelf."""
        return os.path.join(self.folder, f"incoming-{os.getpid()}{name}")

    def check_space(self, size: int) -> None:
        """Raise ShelfFault where there is no room for so many bytes."""
        free = free_bytes(self.folder)
        if size > free:
            raise ShelfFault(
                f"the shelf {self.folder} has {free:,} bytes free, and {size:,} are needed",
                hint="Make room ('rellum shelf trim'), or set RELLUM_SHELF to a folder on a larger "
                "disk.",
            )

    def _known(self, path: str, how: Taking) -> ShelfEntry | None:
        """Return the file on the shelf that has the same bytes; hashed only if the size is the same."""
        size = os.path.getsize(path)
        same_size = self.index.all("size = ?", size)
        if not same_size:
            return None
        digest = how.hashes.digest if how.hashes else hash_file(path)
        found = next((each for each in same_size if each.digest == digest), None)
        return found if found and os.path.exists(self.path_of(digest)) else None

    def _again(self, known: ShelfEntry, path: str, how: Taking) -> Took:
        hashes = how.hashes
        if hashes is None:
            others = {name: hash_of(path, name) for name in how.also}
            hashes = Hashes(size=known.size, digest=known.digest, others=others)
        how.approve(hashes)
        others = dict(hashes.others)
        if "sha256" in others and not known.sha256:
            self.index.update(known.digest, "sha256", others["sha256"])
            known = replace(known, sha256=others["sha256"])
        _let_go(path, how.by)
        return Took(entry=known, is_new=False, hashes=hashes)

    def _carry(
        self,
        path: str,
        how: Taking,
        check: Callable[[Ready], tuple[Member, ...]],
        listen: Listener,
    ) -> tuple[Hashes, tuple[Member, ...]]:
        """Copy a file in, with the check running behind the copy; keep it if all holds."""
        if how.hashes:
            return self._carry_hashed(path, how.hashes, how.approve, check)
        size = os.path.getsize(path)
        if how.by == "copy" or os.stat(path).st_dev != os.stat(self.folder).st_dev:
            self.check_space(size)
        incoming = self.incoming()
        try:
            passage = Passage(path, incoming, how.by, how.also)
            try:
                members = check(_reporting(passage, size, listen))
                passage.wait_for(size)
                hashes = passage.finish()
            finally:
                passage.stop()
            how.approve(hashes)
            self._keep(incoming, hashes.digest)
        except OSError as error:
            raise ShelfFault(
                f"{path} could not be put on the shelf {self.folder}: {error.strerror}",
                hint="Nothing was kept of it. Make room or set RELLUM_SHELF, and take it again.",
            ) from error
        finally:
            if os.path.exists(incoming):
                os.unlink(incoming)
        return hashes, members

    def _carry_hashed(
        self,
        path: str,
        hashes: Hashes,
        approve: Approve,
        check: Callable[[Ready], tuple[Member, ...]],
    ) -> tuple[Hashes, tuple[Member, ...]]:
        """Check a file that lies on the shelf's disk and was hashed there, and keep it."""
        approve(hashes)
        members = check(at_once)
        flush_file(path)
        self._keep(path, hashes.digest)
        return hashes, members

    def _keep(self, incoming: str, digest: Digest) -> None:
        target = self.path_of(digest)
        os.makedirs(os.path.dirname(target), exist_ok=True)
        os.replace(incoming, target)
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


def _reporting(passage: Passage, size: int, listen: Listener) -> Ready:
    """Wait for the passage, and tell how far those are who read behind it."""
    furthest = 0

    def ready(offset: int) -> None:
        nonlocal furthest
        passage.wait_for(offset)
        if offset > furthest:
            furthest = offset
            listen(Progress(stage="taking", files=0, total_files=0, bytes=offset, total_bytes=size))

    return ready


def _let_go(path: str, by: By) -> None:
    """Delete the source that was moved, now that the shelf has it."""
    if by == "move" and os.path.exists(path):
        os.unlink(path)
