"""Taking files: each is read once, hashed and fully checked before it is on the shelf."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Final, NamedTuple

from rellum.core.archives.model import STANDARD_LIMITS, Form, Limits, Member
from rellum.core.archives.open import open_archive
from rellum.core.archives.parts import Part, PartSet, gather, part_by_name, part_of
from rellum.core.durable import flush_file
from rellum.core.hashing import Digest
from rellum.core.joined_file import Ready, at_once
from rellum.core.progress import Listener, Progress, silent
from rellum.core.shelf.index import ShelfEntry, ShelfFault
from rellum.core.shelf.intake import By, Hashes, Passage, hashes_of
from rellum.core.shelf.store import Shelf

Approve = Callable[[Hashes], None]
"""Looks at a file's hashes before it is kept, and raises what is wrong with them."""


def _approve(_: Hashes) -> None:
    """Nothing is known that the hashes could be compared with."""


Look = Callable[[ShelfEntry, Hashes, tuple[Member, ...]], None]
"""Looks at a whole archive before it is kept, and raises what is wrong with it."""


def _look(_entry: ShelfEntry, _hashes: Hashes, _members: tuple[Member, ...]) -> None:
    """Nothing is known of what the archive should hold."""


@dataclass(frozen=True, slots=True, kw_only=True)
class StoreOptions:
    """How a file is taken. ``also`` names hashes beside BLAKE3; ``form`` None: its content tells.

    What ``approve`` or ``look`` refuses is not kept, and its source stays, also where ``by`` is "move".

    ``hashes`` are those of a file that was hashed on its way here: it is not read for that again,
    and moved.
    """

    name: str = ""
    also: frozenset[str] = frozenset()
    by: By = "copy"
    limits: Limits = STANDARD_LIMITS
    form: Form | None = None
    approve: Approve = _approve
    look: Look = _look
    hashes: Hashes | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Stored:
    """A file that is on the shelf now, whether it is new there, and how many copies its links are laid as."""

    entry: ShelfEntry
    is_new: bool
    hashes: Hashes
    copies: int = 0


class Checks(NamedTuple):
    """What is looked at before a file is kept: its members behind the copy, and then all of it."""

    read: Callable[[Ready], tuple[Member, ...]]
    look: Callable[[Hashes, tuple[Member, ...]], None]


PLAINLY: Final = StoreOptions()


def take(shelf: Shelf, path: str, how: StoreOptions = PLAINLY, listen: Listener = silent) -> Stored:
    """Take a whole archive in: its bytes are read once, hashed, copied and checked in full.

    Raises ArchiveFault, ShelfFault, StillComing and what ``how`` refuses; then nothing of
    it stays on the shelf and the source is as it was.
    """
    if known := _known(shelf, path, how):
        return _again(shelf, *known, path, how)
    # Its list of members alone tells most of what can be wrong, where it has one.
    name = how.name or os.path.basename(path)
    shown = name if how.form == "file" else path
    archive = open_archive(path, shown, limits=how.limits, form=how.form)

    def check(ready: Ready) -> tuple[Member, ...]:
        archive.ready = ready
        return archive.check()

    def entry_of(hashes: Hashes) -> ShelfEntry:
        return _entry(hashes, name, form=archive.form, encoding=archive.encoding)

    def look(hashes: Hashes, members: tuple[Member, ...]) -> None:
        how.look(entry_of(hashes), hashes, members)

    hashes, members = _carry(shelf, path, how, Checks(check, look), listen)
    entry = entry_of(hashes)
    return _enter(shelf, entry, members, hashes, path, how)


def take_part(
    shelf: Shelf, path: str, part: Part, how: StoreOptions = PLAINLY, listen: Listener = silent
) -> Stored:
    """Take one part of an archive in: hashed and kept; looked into when all parts are there.

    Raises ShelfFault, StillComing and what ``how.approve`` raises.
    """
    if known := _known(shelf, path, how):
        if not known[0].part_of:
            shelf.index.update(known[0].digest, "part_of", part.key)
        return _again(shelf, *known, path, how)
    checks = Checks(lambda ready: (), lambda hashes, members: None)
    hashes, _ = _carry(shelf, path, how, checks, listen)
    entry = _entry(hashes, how.name or os.path.basename(path), form=None, part_of=part.key)
    return _enter(shelf, entry, (), hashes, path, how)


def _entry(
    hashes: Hashes, name: str, *, form: Form | None, encoding: str = "", part_of: str = ""
) -> ShelfEntry:
    return ShelfEntry(
        digest=hashes.digest,
        size=hashes.size,
        sha256=hashes.others.get("sha256"),
        name=name.encode("utf-8", "replace").decode("utf-8"),  # on disk it need not be a text
        form=form,
        encoding=encoding,
        part_of=part_of,
    )


def _enter(
    shelf: Shelf,
    entry: ShelfEntry,
    members: tuple[Member, ...],
    hashes: Hashes,
    path: str,
    how: StoreOptions,
) -> Stored:
    """Record a file that is on the shelf now, and remove its source."""
    shelf.index.add(entry, members)
    _let_go(path, how.by)
    copies = sum(member.copy_of is not None for member in members)
    return Stored(entry=entry, is_new=True, hashes=hashes, copies=copies)


def gathered(shelf: Shelf, part: Part, release: str, named: tuple[str, ...] = ()) -> PartSet:
    """Return how far an archive in parts is here; ``named`` are its parts' names by its card.

    Archives of different releases may have parts of the same names: those of ``release`` count (empty:
    those of no known one), and of two with one number the one that was taken last.
    """
    found = []
    for entry in shelf.parts(part.key, release):
        path = shelf.path_of(entry.digest)
        its_part = part_by_name(entry.name) or part_of(path, entry.name)
        if its_part is None or its_part.key != part.key:
            continue
        found.append((its_part, path))
    return gather(found, named)


def complete(shelf: Shelf, ordered: tuple[str, ...], name: str, limits: Limits) -> ShelfEntry:
    """Check the archive that all its parts give together; return the first, which has its members.

    Raises ArchiveFault; the parts are kept.
    """
    digests = tuple(Digest(os.path.basename(path)) for path in ordered)
    archive = open_archive(ordered, name, limits=limits)
    members = archive.check()
    first = shelf.index.one("blake3 = ?", digests[0])
    assert first is not None
    whole = replace(first, form=archive.form, encoding=archive.encoding, parts=digests)
    return shelf.index.add(whole, members)


def _known(shelf: Shelf, path: str, how: StoreOptions) -> tuple[ShelfEntry, Hashes] | None:
    """Return the file on the shelf that has the same bytes; hashed only if the size is the same."""
    size = os.path.getsize(path)
    same_size = shelf.index.all("size = ?", size)
    if not same_size:
        return None
    hashes = how.hashes or hashes_of(path, how.also)
    found = next((each for each in same_size if each.digest == hashes.digest), None)
    return (found, hashes) if found and os.path.exists(shelf.path_of(found.digest)) else None


def _again(shelf: Shelf, known: ShelfEntry, hashes: Hashes, path: str, how: StoreOptions) -> Stored:
    how.approve(hashes)
    if not known.part_of:
        how.look(known, hashes, tuple(shelf.members(known.digest)))
    sha256 = hashes.others.get("sha256")
    if sha256 and not known.sha256:
        shelf.index.update(known.digest, "sha256", sha256)
        known = replace(known, sha256=sha256)
    _let_go(path, how.by)
    return Stored(entry=known, is_new=False, hashes=hashes)


def _carry(
    shelf: Shelf,
    path: str,
    how: StoreOptions,
    checks: Checks,
    listen: Listener,
) -> tuple[Hashes, tuple[Member, ...]]:
    """Copy a file in, with the check running behind the copy; keep it if all holds."""
    if how.hashes:
        return _carry_hashed(shelf, path, how.hashes, how.approve, checks)
    size = os.path.getsize(path)
    if how.by == "copy" or os.stat(path).st_dev != os.stat(shelf.folder).st_dev:
        shelf.check_space(size)
    incoming = shelf.incoming()
    try:
        passage = Passage(path, incoming, how.by, how.also)
        try:
            members = checks.read(_reporting(passage, size, listen))
            passage.wait_for(size)
            hashes = passage.finish()
        finally:
            passage.stop()
        how.approve(hashes)
        checks.look(hashes, members)
        shelf.keep(incoming, hashes.digest)
    except OSError as error:
        raise ShelfFault(
            f"{path} could not be put on the shelf {shelf.folder}: {error.strerror}",
            hint="Nothing was kept of it. Make room or set RELLUM_SHELF, and take it again.",
        ) from error
    finally:
        if os.path.exists(incoming):
            os.unlink(incoming)
    return hashes, members


def _carry_hashed(
    shelf: Shelf,
    path: str,
    hashes: Hashes,
    approve: Approve,
    checks: Checks,
) -> tuple[Hashes, tuple[Member, ...]]:
    """Check a file that lies on the shelf's disk and was hashed there, and keep it."""
    approve(hashes)
    members = checks.read(at_once)
    checks.look(hashes, members)
    flush_file(path)
    shelf.keep(path, hashes.digest)
    return hashes, members


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
