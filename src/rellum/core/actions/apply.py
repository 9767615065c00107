"""Preview and apply: the line-up's layers over the baseline, planned against the folder as it is."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from rellum.core.actions.catalogs import catalog_of
from rellum.core.actions.edit_files import Editor
from rellum.core.actions.needed import files_of, missing_of, needed_files
from rellum.core.actions.open_pack import OnRecovered, OpenPack, open_pack
from rellum.core.actions.resolve import current_line_up
from rellum.core.archives.model import Member
from rellum.core.catalog.load import find_mod
from rellum.core.catalog.model import Catalog
from rellum.core.catalog.patches import release_chain
from rellum.core.change.disk import Disk
from rellum.core.change.execute import Space, execute, space_for
from rellum.core.change.plan import Plan
from rellum.core.change.planning import plan_target
from rellum.core.errors import UserError
from rellum.core.layers.model import Layer, LayerEdit, Target
from rellum.core.layers.placing import place_archives
from rellum.core.layers.target import lay_over
from rellum.core.pack.lock_file import LockedRelease, LockFile, NoLineUp, write_lock
from rellum.core.pack.marker import marker_bytes, refuse_other_owner
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.progress import Listener, silent
from rellum.core.shelf.index import ShelfEntry
from rellum.core.shelf.store import Shelf
from rellum.core.solving.problem import are_chosen
from rellum.core.versions.version import Version


class MissingArchives(UserError):
    """The line-up needs archives that are not on the shelf."""

    code = "missing-archives"


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
    target = lay_over(find_layers(lock, catalog, shelf), Editor(opened, shelf).make)
    marker = marker_bytes(home, adopted.pack_id)
    plan = plan_target(target.files, marker, opened.state, opened.roots)
    space = space_for(plan, home, opened.roots)
    return Preview(lock=lock, made_anew=made_anew, plan=plan, target=target, space=space)


def find_layers(lock: LockFile, catalog: Catalog, shelf: Shelf) -> tuple[Layer, ...]:
    """Return the layers of a line-up, in load order. Raises MissingArchives, PlacingFault."""
    _refuse_missing(lock, catalog, shelf)
    return tuple(layer for release in lock.releases for layer in _layers(release, catalog, shelf))


def _refuse_missing(lock: LockFile, catalog: Catalog, shelf: Shelf) -> None:
    missing = [
        f"{each.file.name}  ({each.release.name})"
        for each in missing_of(needed_files(lock, catalog), shelf)
    ]
    if missing:
        count = "an archive" if len(missing) == 1 else f"{len(missing)} archives"
        raise MissingArchives(
            f"the line-up needs {count} that the shelf lacks",
            details=tuple(missing),
            hint="Get them with 'rellum fetch', or give them to Rellum with 'rellum take FILE'.",
        )


def _layers(locked: LockedRelease, catalog: Catalog, shelf: Shelf) -> Iterator[Layer]:
    """Yield a release's layers: the full release, then patch after patch, all of one owner."""
    mod = find_mod(catalog, locked.mod)
    release = mod.release_named(locked.version, locked.build)
    if release is None:
        raise NoLineUp(
            f"the card of {locked.mod} has no release {locked.version} any more",
            hint="Make a new line-up with 'rellum resolve'.",
        )
    archives: dict[Version, list[tuple[ShelfEntry, tuple[Member, ...]]]] = {}
    for each in files_of(locked, catalog):
        entry = shelf.find(each.file, each.release)
        assert entry is not None  # _refuse_missing has seen to it
        archives.setdefault(each.release.version, []).append((entry, shelf.members(entry.digest)))
    for part in release_chain(release, mod):
        its_archives = tuple(archives.get(part.version, ()))
        yield Layer(
            mod=locked.mod,
            version=release.version,
            files=place_archives(part.places, its_archives, locked.options),
            edits=tuple(
                LayerEdit(edit=edit, archives=its_archives)
                for edit in part.edits
                if are_chosen(edit.options, locked.options)
            ),
        )
