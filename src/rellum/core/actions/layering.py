"""From a line-up to its layers: which files each release brings and edits."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rellum.core.actions.needed import NeededFile, files_of
from rellum.core.catalog.load import find_mod
from rellum.core.catalog.model import Catalog
from rellum.core.catalog.patches import release_chain
from rellum.core.errors import UserError
from rellum.core.layers.model import Layer, LayerEdit
from rellum.core.layers.placing import place_archives
from rellum.core.pack.lock_file import LockedRelease, LockFile, NoLineUp
from rellum.core.shelf.index import ShelfEntry
from rellum.core.shelf.store import Shelf
from rellum.core.solving.problem import are_chosen


class MissingArchives(UserError):
    """The line-up needs archives that are not on the shelf."""

    code = "missing-archives"


def find_layers(lock: LockFile, catalog: Catalog, shelf: Shelf) -> tuple[Layer, ...]:
    """Return the layers of a line-up, in load order. Raises MissingArchives, NoLineUp, PlacingFault."""
    located = [
        (
            locked,
            [(each, shelf.find(each.file, each.release)) for each in files_of(locked, catalog)],
        )
        for locked in lock.releases
    ]
    _refuse_missing([each for _, files in located for each, entry in files if entry is None])
    return tuple(
        layer
        for locked, files in located
        for layer in _layers(locked, [(e, entry) for e, entry in files if entry], catalog, shelf)
    )


def _refuse_missing(missing: Sequence[NeededFile]) -> None:
    if missing:
        count = "an archive" if len(missing) == 1 else f"{len(missing)} archives"
        raise MissingArchives(
            f"the line-up needs {count} that the shelf lacks",
            details=tuple(f"{each.file.name}  ({each.release.name})" for each in missing),
            hint="Get them with 'rellum fetch', or give them to Rellum with 'rellum take FILE'.",
        )


def _layers(
    locked: LockedRelease,
    files: Sequence[tuple[NeededFile, ShelfEntry]],
    catalog: Catalog,
    shelf: Shelf,
) -> Iterator[Layer]:
    """Yield a release's layers: the full release, then patch after patch, all of one owner."""
    mod = find_mod(catalog, locked.mod)
    release = mod.release_named(locked.version, locked.build)
    if release is None:
        raise NoLineUp(
            f"the card of {locked.mod} has no release {locked.version} any more",
            hint="Make a new line-up with 'rellum resolve'.",
        )
    for part in release_chain(release, mod):
        archives = tuple(
            (entry, shelf.members(entry.digest)) for each, entry in files if each.release == part
        )
        yield Layer(
            mod=locked.mod,
            version=release.version,
            files=place_archives(part.places, archives, locked.options),
            edits=tuple(
                LayerEdit(edit=edit, archives=archives)
                for edit in part.edits
                if are_chosen(edit.options, locked.options)
            ),
        )
