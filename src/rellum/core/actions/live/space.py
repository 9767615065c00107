"""Space: what the game, its mods and all that Rellum keeps take on disk; what could be freed at what cost."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from rellum.core.actions.gather.shelf import Trim, carry_out_trim, inventory
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.pack.backup import Backup
from rellum.core.pack.backups import Backups
from rellum.core.pack.checkpoints import Checkpoint
from rellum.core.pack.session import Session
from rellum.core.shelf.store import Shelf
from rellum.core.words import count_words

_BACKUPS_STAY = 5
"""So many of the newest backups are never proposed to be freed."""
_CHECKPOINTS_STAY = 3
"""So many of the newest checkpoints are never proposed to be freed."""

Kind = Literal[
    "game", "mods", "originals", "checkpoints", "kept", "backups", "swept", "shelf", "rellum"
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Use:
    """Something that takes space: what it is, how many files and bytes, and what it is for."""

    kind: Kind
    name: str
    files: int
    bytes: int
    meaning: str


@dataclass(frozen=True, slots=True, kw_only=True)
class WayToFree:
    """Something that could go: the bytes that this frees, what it costs, the command that does it alone."""

    name: str
    bytes: int
    cost: str
    command: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SpaceReport:
    """All that takes space, the largest mods first, and the ways to free some, the cheapest first."""

    uses: tuple[Use, ...]
    mods: tuple[tuple[str, int, int], ...]
    ways: tuple[WayToFree, ...]
    free: int

    @property
    def total(self) -> int:
        """All bytes."""
        return sum(each.bytes for each in self.uses)


@dataclass(frozen=True, slots=True, kw_only=True)
class Freed:
    """What was freed; ``done`` False: the user said no. ``enough``: it is as much as was asked for."""

    ways: tuple[WayToFree, ...]
    bytes: int
    enough: bool
    done: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class _Room:
    """A way to free space, and what carries it out."""

    way: WayToFree
    carry_out: Callable[[], None]


def space(request: Request) -> SpaceReport:
    """Return what takes space, and what could be freed. Raises OSError."""
    with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
        shelf.index.add_pack(opened.home.folder)
        rooms = _rooms(opened, shelf, None)
        return _report(opened, shelf, [room.way for room in rooms])


def free_space(
    request: Request, wanted: int, confirm: Callable[[Sequence[WayToFree], bool], bool]
) -> Freed:
    """Free so many bytes in the cheapest way, once the user has said yes. Raises OSError.

    ``confirm`` hears of the ways, and whether they free enough.
    """
    with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
        shelf.index.add_pack(opened.home.folder)
        opened.state.refuse_unfit()
        chosen: list[_Room] = []
        freed = 0
        for room in _rooms(opened, shelf, wanted):
            if freed >= wanted:
                break
            chosen.append(room)
            freed += room.way.bytes
        ways = tuple(room.way for room in chosen)
        enough = freed >= wanted
        done = bool(chosen) and confirm(ways, enough)
        for room in chosen if done else ():
            room.carry_out()
        return Freed(ways=ways, bytes=freed if done else 0, enough=enough, done=done)


def _report(opened: Session, shelf: Shelf, ways: Sequence[WayToFree]) -> SpaceReport:
    home, state = opened.home, opened.state
    laid = state.laid()
    by_mod: Counter[str] = Counter()
    files: Counter[str] = Counter()
    for row in laid.values():
        mod = getattr(row.owner, "mod", "")
        if mod and row.content:
            by_mod[mod] += row.content.size
            files[mod] += 1
    vanilla = [entry for entry in state.baseline_files() if entry.path not in laid]
    originals = _sizes(home.originals_folder)
    under = {each.under.digest for each in laid.values() if each.under}
    under |= {each.base for each in laid.values() if each.base}
    kept = {each.digest for each in state.kept.all()}
    parts = {"originals": under, "kept": kept - under}
    rest = {digest: size for digest, size in originals.items() if digest not in under | kept}
    found = inventory(shelf)
    here = home.folder
    needed = [item for item in found.items if here in item.needed_by]
    others = [item for item in found.items if item.needed_by and here not in item.needed_by]
    unneeded = [item for item in found.items if not item.needed_by]
    total = sum(entry.content.size for entry in vanilla if entry.content and entry.content.size > 0)
    uses = [
        Use(kind="game", name="the game", files=len(vanilla), bytes=total, meaning="vanilla files"),
        Use(
            kind="mods",
            name="mods",
            files=sum(files.values()),
            bytes=sum(by_mod.values()),
            meaning=f"{len(by_mod)} mods in the game",
        ),
        _use_of(
            "originals",
            "originals",
            {d: s for d, s in originals.items() if d in parts["originals"]},
            "what lies under mods, to come back",
        ),
        _use_of("checkpoints", "checkpoints", rest, "what only going back needs"),
        _use_of(
            "kept",
            "kept copies",
            {d: s for d, s in originals.items() if d in parts["kept"]},
            "your files that were in the way",
        ),
        _use_of("backups", "backups", _sizes(home.backups_folder), "saves, worlds and settings"),
        _use_of("swept", "swept", _sizes(home.swept_folder), "moved out of the game by 'sweep'"),
    ]
    for name, items, meaning in (
        ("shelf, this pack", needed, "archives that the pack needs"),
        ("shelf, other packs", others, "archives that other packs need"),
        ("shelf, unneeded", unneeded, "archives that no pack needs"),
    ):
        size = sum(item.size for item in items)
        count = sum(len(item.files) for item in items)
        uses.append(Use(kind="shelf", name=name, files=count, bytes=size, meaning=meaning))
    own = _sizes(home.state_folder, below=False)
    uses.append(_use_of("rellum", "Rellum's own", own, "the state and its lists"))
    folder = opened.roots.game_folder
    return SpaceReport(
        uses=tuple(each for each in uses if each.bytes or each.kind in ("game", "mods")),
        mods=tuple((mod, files[mod], size) for mod, size in by_mod.most_common()),
        ways=tuple(ways),
        free=_free_bytes(folder),
    )


def _free_bytes(folder: str) -> int:
    import shutil

    return shutil.disk_usage(folder).free


def _use_of(kind: Kind, name: str, sizes: Mapping[str, int], meaning: str) -> Use:
    return Use(kind=kind, name=name, files=len(sizes), bytes=sum(sizes.values()), meaning=meaning)


def _sizes(folder: str, *, below: bool = True) -> dict[str, int]:
    """Return the sizes in bytes of the files in a folder, by path; without ``below`` not of those deeper."""
    found: dict[str, int] = {}
    for inside, folders, names in os.walk(folder):
        for name in names:
            path = os.path.join(inside, name)
            if not os.path.islink(path):
                found[os.path.relpath(path, folder)] = os.path.getsize(path)
        if not below:
            folders.clear()
    return found


def _rooms(opened: Session, shelf: Shelf, wanted: int | None) -> list[_Room]:
    """Return the ways to free space, the cheapest first; ``wanted`` bytes in all, None: as much as can be."""
    rooms = [
        *_unneeded_archives(shelf, by_hand=False),
        *_old_backups(opened),
        *_old_checkpoints(opened),
    ]
    before = sum(room.way.bytes for room in rooms)
    more = None if wanted is None else max(0, wanted - before)
    rooms += _fetchable_archives(shelf, more)
    rooms += _unneeded_archives(shelf, by_hand=True)
    return [room for room in rooms if room.way.bytes > 0]


def _unneeded_archives(shelf: Shelf, *, by_hand: bool) -> Iterator[_Room]:
    """Yield what no pack needs: with ``by_hand``, what nobody could fetch again, else the rest."""
    found = inventory(shelf)
    items = [
        item for item in found.items if not item.needed_by and (item.again != "fetch") == by_hand
    ]
    trim = Trim(items=tuple(items), unfinished=() if by_hand else found.unfinished)
    way = WayToFree(
        name="archives got by hand that no pack needs"
        if by_hand
        else "archives that no pack needs",
        bytes=trim.size,
        cost="got by hand again, if at all" if by_hand else "all could be fetched again",
        command="rellum shelf trim",
    )
    yield _Room(way=way, carry_out=lambda: carry_out_trim(shelf, trim))


def _fetchable_archives(shelf: Shelf, wanted: int | None) -> Iterator[_Room]:
    found = inventory(shelf)
    needed = [item for item in found.items if item.needed_by and item.again == "fetch"]
    chosen, size = [], 0
    for item in needed:
        if wanted is not None and size >= wanted:
            break
        chosen.append(item)
        size += item.size
    trim = Trim(items=tuple(chosen), unfinished=())
    way = WayToFree(
        name="archives that can be fetched again",
        bytes=trim.size,
        cost=count_words(len(chosen), "archive is", "archives are") + " fetched again when needed",
        command=f"rellum shelf trim --free {trim.size}",
    )
    yield _Room(way=way, carry_out=lambda: carry_out_trim(shelf, trim))


def _old_backups(opened: Session) -> Iterator[_Room]:
    folder = opened.home.backups_folder
    if not os.path.exists(folder):
        return
    with Backups(folder) as backups:
        found = backups.all()
        newest = {each.variant: each.number for each in reversed(found)}
        old = [
            each
            for each in found[_BACKUPS_STAY:]
            if not each.name and each.number not in newest.values()
        ]
        size = backups.would_free([each.number for each in old])
    if not old:
        return

    def carry_out() -> None:
        with Backups(folder) as again:
            again.drop(each.number for each in old)

    way = WayToFree(
        name=f"{len(old)} old backups",
        bytes=size,
        cost=f"no saves from before {_day(found[_BACKUPS_STAY - 1])}, unless named",
        command="rellum backup drop " + " ".join(str(each.number) for each in old),
    )
    yield _Room(way=way, carry_out=carry_out)


def _old_checkpoints(opened: Session) -> Iterator[_Room]:
    found = opened.state.checkpoints.all()
    old = [each for each in found[_CHECKPOINTS_STAY:] if not each.name and not each.good]
    if not old:
        return
    first = found[_CHECKPOINTS_STAY - 1]
    needed = opened.state.rehearsal_without_checkpoints(first.number)
    sizes = _sizes(opened.home.originals_folder)
    freed = sum(size for digest, size in sizes.items() if digest not in needed)

    def carry_out() -> None:
        opened.state.checkpoints.forget_before(first.number)
        opened.site.originals.let_go_of_all_but(opened.state.needed_counts())

    way = WayToFree(
        name=f"{len(old)} old checkpoints",
        bytes=freed,
        cost=f"no way back before {_day(first)}, unless named",
        command="rellum space --free SIZE",
    )
    yield _Room(way=way, carry_out=carry_out)


def _day(each: Backup | Checkpoint) -> str:
    return each.made_at[:16].replace("T", " ")
