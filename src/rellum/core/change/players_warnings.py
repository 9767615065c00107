"""What a change of releases means to the player: saves that no longer open, settings that move along."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass

from rellum.core.catalog.model import Catalog, Release
from rellum.core.change.folders import new_folders
from rellum.core.change.operations import (
    BringBack,
    Found,
    Lay,
    LayAgain,
    Operation,
    SetAside,
    row_after,
)
from rellum.core.change.plan import Plan
from rellum.core.composing.needed import release_of
from rellum.core.errors import UserError
from rellum.core.layers.model import DiskFile
from rellum.core.pack.backup import release_label
from rellum.core.pack.home import PackHome
from rellum.core.pack.lock_file import LockFile
from rellum.core.pack.standing import content_at
from rellum.core.pack.state import State
from rellum.core.values.ids import ReleaseName
from rellum.core.values.owners import FOREIGN
from rellum.core.values.paths import PlacePath, Roots, is_in_game, root_of
from rellum.core.versions.ranges import parse_range


@dataclass(frozen=True, slots=True, kw_only=True)
class BrokenSaves:
    """Saves made with the release ``before`` do not open with ``after``.

    ``back``: those made with ``after`` open with ``before``; ``is_back``: it is the older release that comes,
    and ``fits`` is the newest backup that was made with it, by name or number; empty where there is none.
    """

    mod: str
    before: str
    after: str
    back: bool
    is_back: bool
    fits: str = ""

    @property
    def backup_name(self) -> str:
        """The name of the backup that is made before it."""
        return f"before {self.mod} {self.after}"


def broken_saves(
    lock: LockFile, catalog: Catalog, state: State, home: PackHome
) -> Iterator[BrokenSaves]:
    """Yield what the cards say of saves, for the releases that another one takes the place of."""
    laid = {each.mod: each for each in state.releases_laid()}
    for locked in lock.releases:
        here = laid.get(locked.mod)
        if here is None or (here.version, here.build) == (locked.version, locked.build):
            continue
        mod = catalog.mods.get(locked.mod)
        new = release_of(locked, catalog)
        old = mod.release_named(here.version, here.build) if mod else None
        if new is None or old is None or mod is None:
            continue
        if _breaks(new, old, catalog):
            assert new.breaks_saves is not None
            yield BrokenSaves(
                mod=locked.mod,
                before=here.version,
                after=locked.version,
                back=new.breaks_saves.back,
                is_back=False,
            )
        elif _breaks(old, new, catalog) and old.breaks_saves and not old.breaks_saves.back:
            yield BrokenSaves(
                mod=locked.mod,
                before=here.version,
                after=locked.version,
                back=False,
                is_back=True,
                fits=_backup_with(locked.name, home),
            )


def _backup_with(release: ReleaseName, home: PackHome) -> str:
    """Return the newest backup that was made while a release was in the game; empty where there is none."""
    if not os.path.exists(home.backups_folder):
        return ""
    from rellum.core.pack.backups import Backups

    label = release_label(release)
    with suppress(UserError), Backups(home.backups_folder) as backups:
        found = next((each for each in backups.all() if label in each.releases), None)
        return (found.name or str(found.number)) if found else ""
    return ""


def _breaks(release: Release, older: Release, catalog: Catalog) -> bool:
    said = release.breaks_saves
    if said is None:
        return False
    return older.version in parse_range(said.of, catalog.ordering(release.mod))


def moved_settings(
    lock: LockFile, catalog: Catalog, plan: Plan, state: State, roots: Roots
) -> Plan:
    """Return a plan that takes the player's files along where a release renames a folder (``was``)."""
    laid = {each.mod: each for each in state.releases_laid()}
    by_path: dict[PlacePath, Operation] = {each.path: each for each in plan.operations}
    count = len(by_path)
    for locked in lock.releases:
        release = release_of(locked, catalog)
        name = ReleaseName(locked.mod, locked.version, locked.build)
        if release is None or not release.was or laid.get(locked.mod) == name:
            continue
        for new, old in release.was:
            for source, target in _pairs(old, new, roots):
                _move(source, target, by_path, state, roots)
    if len(by_path) == count and not any(
        by_path[each.path] is not each for each in plan.operations
    ):
        return plan
    operations = [by_path[path] for path in sorted(by_path)]
    moved = [each for each in operations if isinstance(each, BringBack)]
    made = set(new_folders(moved, {}, (), roots)) - set(plan.new_folders)
    return plan._replace(
        operations=tuple(operations),
        new_folders=tuple(sorted({*plan.new_folders, *made})),
        others_folders=tuple(sorted({*plan.others_folders, *made})),
    )


def _pairs(old: PlacePath, new: PlacePath, roots: Roots) -> Iterator[tuple[PlacePath, PlacePath]]:
    """Yield the files at or below an old path, each with where it belongs now."""
    if not all(is_in_game(each) or root_of(each) in roots.outside for each in (old, new)):
        return
    top = roots.absolute(old)
    if os.path.isfile(top):
        yield old, new
    for inside, _, names in os.walk(top):
        for name in names:
            relative = os.path.relpath(os.path.join(inside, name), top).replace(os.sep, "/")
            yield PlacePath(f"{old}/{relative}"), PlacePath(f"{new}/{relative}")


def _move(
    source: PlacePath,
    target: PlacePath,
    by_path: dict[PlacePath, Operation],
    state: State,
    roots: Roots,
) -> None:
    """Plan that a file of the player's goes to where the release looks for it, if that is free."""
    row = state.laid([source]).get(source)
    content, changed = content_at(roots, source, row.content if row else None)
    if content is None or (row is not None and not changed):
        return  # it is as the mod had laid it: nothing of the player's
    there = by_path.get(target)
    file = DiskFile(
        path=target, file=roots.absolute(source), digest=content.digest, size=content.size
    )
    if isinstance(there, Lay):
        if not there.role:
            return
        laid = row_after(there, there.after)
        assert laid is not None
        by_path[target] = LayAgain(target, there.found, laid, content, file, there.keep)
    elif there is None and not os.path.lexists(roots.absolute(target)):
        by_path[target] = BringBack(target, Found(None, FOREIGN), content, FOREIGN, file)
    else:
        return
    if source not in by_path and row is None:
        by_path[source] = SetAside(source, Found(content, FOREIGN))
