"""Restore: bring back what lies under one file's, one mod's or all layers."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, NamedTuple

from rellum.core.actions.open_pack import OnRecovered, OpenPack, open_pack
from rellum.core.change.disk import Disk
from rellum.core.change.execute import NoSources, Sources, execute
from rellum.core.change.plan import Plan
from rellum.core.change.planning import plan_vanilla
from rellum.core.change.readiness import Space, space_for
from rellum.core.errors import UserError
from rellum.core.folder.content import RELLUM, Laid
from rellum.core.nearest import nearest
from rellum.core.pack.marker import refuse_other_owner
from rellum.core.pack.rows import BaselineEntry
from rellum.core.pack.state import State
from rellum.core.paths import GAME, PlacePath, fault_in_relative, root_of, shown

if TYPE_CHECKING:
    from rellum.core.folder.model import Drift


class NothingToRestore(UserError):
    """What was named is no file of the game, or no mod that is in it."""

    code = "nothing-to-restore"


class NoOriginal(UserError):
    """A file cannot be brought back: Rellum never replaced it and so kept no original."""

    code = "no-original"


class Restoration(NamedTuple):
    """What ``restore`` would do, and which files are neither the game's nor Rellum's."""

    plan: Plan
    space: Space
    foreign: tuple[PlacePath, ...]


class RestoreResult(NamedTuple):
    """What was done. ``done`` is False where the user said no."""

    restoration: Restoration
    done: bool
    originals_folder: str


Confirm = Callable[[Restoration], bool]


def restore_paths(
    pack_folder: str,
    paths: Sequence[str],
    on_recovered: OnRecovered,
    confirm: Confirm,
    source: str = "",
    *,
    even_if_running: bool = False,
) -> RestoreResult:
    """Restore files, or all files in folders, named from the game folder.

    ``source``, here and below: a folder or an archive from which originals come that Rellum never saw.

    Raises NothingToRestore, NoOriginal, RolledBack, and what opening can raise.
    """
    with open_pack(pack_folder, on_recovered, even_if_running=even_if_running) as opened:
        wanted: dict[PlacePath, None] = {}
        for path in paths:
            wanted.update(dict.fromkeys(_files_named(path, opened)))
        plan = _planned(opened, wanted, source)
        if plan.left_alone and not plan.operations:
            raise NoOriginal(
                "no original is kept for " + ", ".join(shown(path) for path, _ in plan.left_alone),
                details=tuple(f"{shown(path)}: {why}" for path, why in plan.left_alone),
                hint="Name a clean copy of the game by --from, or have the store verify it.",
            )
        return carry_out(opened, plan, (), confirm, supplied=bool(source))


def restore_mod(
    pack_folder: str,
    mod: str,
    on_recovered: OnRecovered,
    confirm: Confirm,
    source: str = "",
    *,
    even_if_running: bool = False,
) -> RestoreResult:
    """Restore every file that belongs to a mod. Raises NothingToRestore, RolledBack."""
    with open_pack(pack_folder, on_recovered, even_if_running=even_if_running) as opened:
        laid = opened.state.laid_by(mod)
        if not laid:
            owners = {each.owner.rpartition(" ")[0] for each in opened.state.laid().values()}
            owners.discard("")
            raise NothingToRestore(
                f"nothing in the game belongs to {mod!r}" + nearest(mod, owners),
                hint=f"Mods in the game: {', '.join(sorted(owners)) or 'none'}.",
            )
        plan = _planned(opened, laid, source)
        return carry_out(opened, plan, (), confirm, supplied=bool(source))


def restore_all(
    pack_folder: str,
    on_recovered: OnRecovered,
    confirm: Confirm,
    disk: Disk | None = None,
    source: str = "",
    *,
    even_if_running: bool = False,
) -> RestoreResult:
    """Bring the whole folder back as it was adopted, the marker included; foreign files stay."""
    with open_pack(pack_folder, on_recovered, disk, even_if_running=even_if_running) as opened:
        from rellum.core.actions.check import drift_of

        drift = drift_of(opened)
        foreign = tuple(each.path for each in drift.findings if each.kind == "foreign")
        paths = {*opened.state.laid(), *drifted_paths(drift, opened.state)}
        plan = _planned(opened, paths, source, whole=True)
        return carry_out(opened, plan, foreign, confirm, supplied=bool(source))


def drifted_paths(drift: Drift, state: State) -> set[PlacePath]:
    """Return what is changed or missing; a lost folder is one finding, and all below it is lost too."""
    missing = [each.path for each in drift.findings if each.kind == "missing"]
    below = {path for folder in missing for path in state.baseline_below(folder)}
    return {each.path for each in drift.findings if each.kind != "foreign"} | below


def _planned(
    opened: OpenPack, paths: Iterable[PlacePath], source: str, *, whole: bool = False
) -> Plan:
    """Plan with the originals that there are, and those that ``source`` has. Raises NoSupply."""
    store = opened.site.originals
    paths = list(paths)
    plan = plan_vanilla(paths, opened.state, opened.roots, store.has, whole=whole)
    if not source:
        return plan
    from rellum.core.actions.supplies import supply, supply_contents

    supply(opened, source, [path for path, _ in plan.left_alone])
    needed = {each.path: each.after for each in plan.operations if each.after}
    supply_contents(opened, source, needed)
    return plan_vanilla(paths, opened.state, opened.roots, store.has, whole=whole)


def carry_out(
    opened: OpenPack,
    plan: Plan,
    foreign: tuple[PlacePath, ...],
    confirm: Confirm,
    sources: Sources | None = None,
    *,
    supplied: bool = False,
) -> RestoreResult:
    """Ask, and carry a restoration out. ``supplied``: contents were put into the store for it."""
    refuse_other_owner(opened.roots, opened.home, opened.adopted.pack_id)
    space = space_for(plan, opened.home, opened.roots)
    restoration = Restoration(plan=plan, space=space, foreign=foreign)
    done = plan.is_empty or not plan.visible or confirm(restoration)
    if done and not plan.is_empty:
        execute(plan, "restore", opened.site, sources or NoSources())
    if supplied:
        from rellum.core.actions.supplies import let_go_of_rest

        let_go_of_rest(opened)
    folder = opened.home.originals_folder
    return RestoreResult(restoration=restoration, done=done, originals_folder=folder)


def _files_named(text: str, opened: OpenPack) -> list[PlacePath]:
    """Return the game's and Rellum's files that a path names: one, or all in a folder."""
    path = named_path(text, opened)
    state = opened.state
    found = _restorable(state.baseline([path]), state.laid([path]))
    if not found:
        found = _restorable(state.baseline_below(path), state.laid_below(path))
    if not found:
        there = os.path.lexists(opened.roots.absolute(path))
        what = "is foreign: neither the game's nor a mod's" if there else "is no file of the game"
        raise NothingToRestore(
            f"{shown(path)} {what}",
            hint="Paths are named from the game folder, e.g. 'data/sea.dat'; see 'rellum check'.",
        )
    return sorted(found)


def _restorable(
    vanilla: dict[PlacePath, BaselineEntry], laid: dict[PlacePath, Laid]
) -> set[PlacePath]:
    """Return the files among these entries, without Rellum's own marker."""
    files = {path for path, entry in vanilla.items() if entry.kind == "file"}
    return files | {path for path, entry in laid.items() if entry.owner != RELLUM}


def named_path(text: str, opened: OpenPack) -> PlacePath:
    """Return the path that a user names, from the game folder or in full. Raises NothingToRestore."""
    if os.path.isabs(text):
        path = opened.roots.place_path(text)
        if path is None:
            raise NothingToRestore(
                f"{text} is not in the game folder {opened.roots.game_folder}",
                hint="Name the file from the game folder, e.g. 'data/sea.dat'.",
            )
        return path
    if root_of(PlacePath(text)) in opened.roots.outside:
        if fault := fault_in_relative(text[1:]):
            raise NothingToRestore(f"{text!r} cannot be used: {fault}")
        return PlacePath(text.rstrip("/"))
    relative = os.path.normpath(text.removeprefix(GAME + "/")).replace(os.sep, "/")
    if relative in (".", GAME):
        return PlacePath(GAME)
    if relative.startswith("../") and fault_in_relative(relative):
        raise NothingToRestore(
            f"{text} leads out of the game folder",
            hint="Name the file from the game folder, e.g. 'data/sea.dat'.",
        )
    return PlacePath(f"{GAME}/{relative}")
