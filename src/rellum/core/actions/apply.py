"""Preview and apply: the line-up's layers over the baseline, planned against the folder as it is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from rellum.core.actions.catalogs import catalog_of
from rellum.core.actions.conflicts import winners_of
from rellum.core.actions.edit_files import Editor
from rellum.core.actions.layering import find_layers
from rellum.core.actions.open_pack import OnRecovered, OpenPack, open_pack
from rellum.core.actions.resolve import current_line_up
from rellum.core.change.disk import Disk
from rellum.core.change.execute import Space, execute, space_for
from rellum.core.change.plan import Plan
from rellum.core.change.planning import plan_target
from rellum.core.layers.model import Target
from rellum.core.layers.target import lay_over
from rellum.core.pack.lock_file import LockFile, write_lock
from rellum.core.pack.marker import marker_bytes, refuse_other_owner
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.progress import Listener, silent
from rellum.core.shelf.store import Shelf


@dataclass(frozen=True, slots=True, kw_only=True)
class Preview:
    """What ``apply`` would do. ``made_anew``: rellum.toml changed since the line-up was made."""

    lock: LockFile
    made_anew: bool
    plan: Plan
    target: Target
    space: Space


@dataclass(frozen=True, slots=True, kw_only=True)
class ApplyResult:
    """What was done. ``done`` is False where the user said no."""

    preview: Preview
    done: bool
    originals_folder: str


def preview(pack_folder: str, shelf_folder: str, on_recovered: OnRecovered) -> Preview:
    """Plan, and change nothing.

    Raises NoLineUp, NoLineUpExists, MissingArchives, PlacingFault, CannotLay, FolderOwned.
    """
    with open_pack(pack_folder, on_recovered) as opened, Shelf(shelf_folder) as shelf:
        return _prepare(opened, shelf)


def apply(
    pack_folder: str,
    shelf_folder: str,
    on_recovered: OnRecovered,
    confirm: Callable[[Preview], bool],
    disk: Disk | None = None,
    listen: Listener = silent,
) -> ApplyResult:
    """Plan, ask, and carry the plan out. Raises what ``preview`` does, NoSpace, RolledBack."""
    with open_pack(pack_folder, on_recovered, disk) as opened, Shelf(shelf_folder) as shelf:
        planned = _prepare(opened, shelf)
        done = not planned.plan.visible or confirm(planned)
        if done and not planned.plan.is_empty:
            execute(planned.plan, "apply", replace(opened.site, listen=listen), shelf.open)
        if done and planned.made_anew:
            # Last: a change that fails must leave the line-up as it was, too.
            write_lock(opened.home, planned.lock)
        folder = opened.home.originals_folder
        return ApplyResult(preview=planned, done=done, originals_folder=folder)


def _prepare(opened: OpenPack, shelf: Shelf) -> Preview:
    home, adopted = opened.home, opened.adopted
    refuse_other_owner(opened.roots, home, adopted.pack_id)
    pack = read_pack_file(home)
    catalog = catalog_of(home, pack)
    lock, made_anew = current_line_up(opened, pack, catalog, opened.state.identity(), shelf)
    target = lay_over(
        find_layers(lock, catalog, shelf), Editor(opened, shelf).make, winners_of(pack, catalog)
    )
    marker = marker_bytes(home, adopted.pack_id)
    plan = plan_target(target.files, marker, opened.state, opened.roots)
    space = space_for(plan, home, opened.roots)
    return Preview(lock=lock, made_anew=made_anew, plan=plan, target=target, space=space)
