"""The shelf: list it, check it, and free space on it."""

from __future__ import annotations

import os
import re
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from glob import escape, glob
from typing import Final, Literal

from rellum.core.errors import RellumError, UserError
from rellum.core.fetching.partial import forget_partial
from rellum.core.hashing import Digest, hash_file
from rellum.core.nearest import nearest
from rellum.core.pack.home import LOCK_FILE, PackHome, read_text
from rellum.core.pack.lock_file import LockFile, read_lock, read_lock_text
from rellum.core.pack.peek import lasting_texts
from rellum.core.progress import Listener, Progress, silent
from rellum.core.shelf.index import ShelfEntry
from rellum.core.shelf.store import Shelf

_HASH: Final = re.compile(r"\b[0-9a-f]{64}\b")
_DAY: Final = 86_400.0
_SHORTEST_HASH: Final = 8


class NotOnShelf(UserError):
    """The shelf has no archive of that name, or several."""

    code = "not-on-shelf"


Again = Literal["fetch", "by hand", "no"]
"""How a file can be had again: by 'rellum fetch', by a person, or nobody knows how."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Item:
    """An archive on the shelf, with all its parts that are here. ``size`` is in bytes.

    ``needed_by`` are the folders of the packs that need one of its files: for their line-up, for what lies in
    the game now, for a checkpoint with a name or marked good, or as a mod of their own.
    """

    name: str
    release: str
    size: int
    files: tuple[ShelfEntry, ...]
    needed_by: tuple[str, ...]
    again: Again
    is_waiting: bool

    @property
    def digests(self) -> tuple[Digest, ...]:
        """The hashes of its files."""
        return tuple(each.digest for each in self.files)


@dataclass(frozen=True, slots=True, kw_only=True)
class Inventory:
    """All that is on the shelf.

    ``packs_gone`` are packs that used it and are not there now. ``unfinished`` are downloads that
    have not ended, with their bytes.
    """

    folder: str
    items: tuple[Item, ...]
    packs_gone: tuple[str, ...]
    unfinished: tuple[tuple[str, int], ...]

    @property
    def size(self) -> int:
        """All bytes of all items."""
        return sum(item.size for item in self.items)


@dataclass(frozen=True, slots=True, kw_only=True)
class Damaged:
    """A file whose bytes are not what its name says (``aside``: where they are now), or are gone."""

    entry: ShelfEntry
    aside: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Trim:
    """What is to go, in that order; ``unfinished`` downloads go too."""

    items: tuple[Item, ...]
    unfinished: tuple[tuple[str, int], ...]

    @property
    def size(self) -> int:
        """The bytes that this frees."""
        return sum(item.size for item in self.items) + sum(size for _, size in self.unfinished)

    @property
    def lost(self) -> tuple[Item, ...]:
        """Those that a person would have to get again, or nobody could."""
        return tuple(item for item in self.items if item.again != "fetch")

    @property
    def missed(self) -> tuple[Item, ...]:
        """Those that packs need and nothing fetches again: what they lay can then not be mended."""
        return tuple(item for item in self.lost if item.needed_by)


def inventory(shelf: Shelf) -> Inventory:
    """Return what is on the shelf, the largest first."""
    needed, gone = _needs(shelf.index.packs())
    groups: dict[str, list[ShelfEntry]] = {}
    for entry in shelf.index.all():
        key = f"{entry.part_of} {entry.origin.label}" if entry.part_of else entry.digest
        groups.setdefault(key, []).append(entry)
    items = [_item(entries, needed) for entries in groups.values()]
    return Inventory(
        folder=shelf.folder,
        items=tuple(sorted(items, key=lambda item: (-item.size, item.name))),
        packs_gone=tuple(gone),
        unfinished=tuple(_unfinished(shelf)),
    )


def _item(entries: Sequence[ShelfEntry], needed: dict[str, set[str]]) -> Item:
    first = next((each for each in entries if each.parts), entries[0])
    owner = next((each for each in entries if each.origin.mod), first).origin
    is_set = bool(first.part_of)
    again: Again = "no"
    if all(each.origin.urls for each in entries):
        again = "fetch"
    elif owner.mod:
        again = "by hand"
    keys = [key for each in entries for key in (each.digest, each.sha256) if key]
    return Item(
        name=first.part_of.partition(":")[2] if is_set else first.name,
        release=owner.label,
        size=sum(each.size for each in entries),
        files=tuple(entries),
        needed_by=tuple(sorted({pack for key in keys for pack in needed.get(key, ())})),
        again=again,
        is_waiting=is_set and not first.parts,
    )


def _needs(packs: Iterable[str]) -> tuple[dict[str, set[str]], list[str]]:
    """Return the packs that need each hash, and the packs that are not there."""
    needed: dict[str, set[str]] = {}
    gone = []
    for folder in packs:
        if not os.path.isdir(folder):
            gone.append(folder)
            continue
        for lock in _locks_of(PackHome(folder)):
            for release in lock.releases:
                for file in release.files:
                    for key in filter(None, (file.blake3, file.sha256)):
                        needed.setdefault(key, set()).add(folder)
        for key in _own_archives(PackHome(folder)):
            needed.setdefault(key, set()).add(folder)
    return needed, gone


def _locks_of(home: PackHome) -> Iterator[LockFile]:
    """Yield the line-ups that a pack may need: as it is, as the game is laid, of variants and checkpoints."""
    with suppress(RellumError, OSError):
        yield read_lock(home)
    for file in sorted(glob(os.path.join(escape(home.folder), "variants", "*.lock"))):
        with suppress(OSError):
            if (parked := read_lock_text(read_text(file) or "", file)) is not None:
                yield parked
    for texts in lasting_texts(home):
        lock = read_lock_text(dict(texts).get(LOCK_FILE, ""), home.lock_file)
        if lock is not None:
            yield lock


def _own_archives(home: PackHome) -> Iterator[str]:
    """Yield the hashes that the cards of a pack's own mods name: their archives are nowhere else.

    The texts are searched, so that a mistake in one of the cards does not cost an archive.
    """
    for card in glob(os.path.join(escape(home.own_catalog), "cards", "*.toml")):
        with suppress(OSError), open(card, encoding="utf-8", errors="replace") as file:
            yield from _HASH.findall(file.read())


def _unfinished(shelf: Shelf) -> Iterable[tuple[str, int]]:
    folder = os.path.join(shelf.folder, "fetching")
    names = os.listdir(folder) if os.path.isdir(folder) else []
    for name in sorted(names):
        if len(name) == 40:
            path = os.path.join(folder, name)
            yield path, os.path.getsize(path)
    # What a killed 'take' left behind; one that is at work is younger than that.
    for name in sorted(os.listdir(shelf.folder)):
        path = os.path.join(shelf.folder, name)
        if name.startswith("incoming-") and time.time() - os.path.getmtime(path) > _DAY:
            yield path, os.path.getsize(path)


def check(shelf: Shelf, listen: Listener = silent) -> tuple[int, tuple[Damaged, ...]]:
    """Hash every file again; return how many were looked at, and those that are not whole.

    A damaged file is set aside, so that the next 'fetch' or 'take' brings a good one. Raises OSError.
    """
    entries = shelf.index.all()
    total = sum(entry.size for entry in entries)
    damaged = []
    done = 0
    for number, entry in enumerate(entries):
        path = shelf.path_of(entry.digest)
        if not os.path.exists(path):
            shelf.index.forget(entry.digest)
            damaged.append(Damaged(entry=entry, aside=None))
        elif hash_file(path) != entry.digest:
            damaged.append(Damaged(entry=entry, aside=_set_aside(shelf, entry)))
        done += entry.size
        listen(
            Progress(
                stage="hashing",
                files=number + 1,
                total_files=len(entries),
                bytes=done,
                total_bytes=total,
            )
        )
    return len(entries), tuple(damaged)


def _set_aside(shelf: Shelf, entry: ShelfEntry) -> str:
    aside = os.path.join(shelf.folder, "damaged", entry.digest)
    os.makedirs(os.path.dirname(aside), exist_ok=True)
    os.replace(shelf.path_of(entry.digest), aside)
    shelf.index.forget(entry.digest)
    return aside


def plan_trim(found: Inventory, free: int | None, *, by_hand: bool = False) -> Trim:
    """Choose what goes: first what no pack needs, what can be fetched again before the rest; then, if
    ``free`` bytes are not reached, what packs need and can fetch again, and last, only if ``by_hand``
    says so, what they need and would have to get by hand. ``free`` None: all that no pack needs.
    """
    unneeded = [item for item in found.items if not item.needed_by]
    unneeded.sort(key=lambda item: (item.again != "fetch", item.again == "no", -item.size))
    needed = [item for item in found.items if item.needed_by and item.again == "fetch"]
    if by_hand:
        needed += [item for item in found.items if item.needed_by and item.again != "fetch"]
    chosen: list[Item] = []
    freed = sum(size for _, size in found.unfinished)
    for item in unneeded if free is None else [*unneeded, *needed]:
        if free is not None and freed >= free:
            break
        chosen.append(item)
        freed += item.size
    return Trim(items=tuple(chosen), unfinished=found.unfinished)


def plan_drop(found: Inventory, names: Sequence[str]) -> Trim:
    """Choose the archives of these names, releases (``MOD@VERSION``) or hashes. Raises NotOnShelf."""
    chosen: dict[str, Item] = {}
    for name in names:
        fitting = [item for item in found.items if _is_called(item, name)]
        if not fitting:
            known = {item.name for item in found.items} | {item.release for item in found.items}
            raise NotOnShelf(
                f"nothing on the shelf is called {name!r}{nearest(name, known)}",
                hint="'rellum shelf' lists what is there.",
            )
        if len(fitting) > 1:
            hashes = ", ".join(item.digests[0][:12] for item in fitting)
            raise NotOnShelf(
                f"{len(fitting)} archives are called {name!r}",
                hint=f"Name one by its hash: {hashes}",
            )
        chosen[fitting[0].digests[0]] = fitting[0]
    return Trim(items=tuple(chosen.values()), unfinished=())


def _is_called(item: Item, name: str) -> bool:
    called = {
        item.name,
        *(each.name for each in item.files),
        item.release,
        item.release.replace(" ", "@", 1),
    }
    is_hash = len(name) >= _SHORTEST_HASH and any(each.startswith(name) for each in item.digests)
    return (bool(name) and name in called) or is_hash


def carry_out_trim(shelf: Shelf, trim: Trim) -> None:
    """Take off the shelf what was chosen. Raises OSError."""
    for item in trim.items:
        for digest in item.digests:
            shelf.forget(digest)
    for path, _ in trim.unfinished:
        forget_partial(path)
