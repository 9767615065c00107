"""List: the mods in the game, or those that the catalog has."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from rellum.core.actions.change.status import ReleaseStatus, releases_now
from rellum.core.catalog.model import Catalog, Mod, Release
from rellum.core.change.looking import warn_of_unfit
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.composing.needed import release_of
from rellum.core.errors import RellumError
from rellum.core.pack.lock_file import LockedRelease
from rellum.core.pack.session import Session
from rellum.core.shelf.store import Shelf
from rellum.core.values.ids import ModId, ReleaseName


@dataclass(frozen=True, slots=True, kw_only=True)
class ListedMod:
    """A mod in the game or in the line-up. Of what is not known, the text is empty.

    ``release`` is what is laid, None where it waits for the next ``apply``, which brings ``waits_for``.
    ``goes``: the line-up has it no longer, and the next ``apply`` takes it out. ``since`` is RFC 3339;
    ``page`` where its archive is from: a page or an address; ``because`` are the mods that need it, empty
    where the pack wants it.
    """

    mod: ModId
    name: str
    kind: str
    release: ReleaseName | None
    waits_for: ReleaseName | None
    goes: bool
    since: str
    because: tuple[ModId, ...]
    page: str
    licence: str
    notes: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class CatalogMod:
    """A mod that the catalog has: its newest release, how many there are, and which one is in the game."""

    mod: ModId
    name: str
    kind: str
    newest: ReleaseName | None
    game: str
    release_count: int
    licence: str
    laid: ReleaseName | None
    is_wanted: bool


def list_mods(request: Request, words: Sequence[str] = ()) -> tuple[ListedMod, ...]:
    """Return the mods in the game and those that wait, in load order: those that have all of some words.

    Works without a catalog, with what the pack itself knows.
    """
    with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
        catalog = _catalog_if_any(opened)
        warn_of_unfit(opened)
        lock = opened.files.lock_if_any
        locked = {each.mod: each for each in lock.releases} if lock else {}
        found = [
            _listed(each, locked.get(each.mod), catalog, shelf)
            for each in releases_now(opened, lock)
        ]
    return tuple(each for each in found if _has(words, each.mod, each.name, each.kind))


def list_catalog(request: Request, words: Sequence[str] = ()) -> tuple[CatalogMod, ...]:
    """Return the mods of the catalog, by id: those that have all of some words. Raises NoCatalog."""
    with open_pack(request) as opened:
        catalog, pack = opened.files.catalog, opened.files.pack
        laid = {each.mod: each for each in opened.state.releases_laid()}
        wanted = {each.mod for each in pack.wants}
    return tuple(
        _of_catalog(mod, laid.get(mod.id), is_wanted=mod.id in wanted)
        for mod in sorted(catalog.mods.values(), key=lambda each: each.id)
        if _has(words, mod.id, mod.name, mod.kind)
    )


def _catalog_if_any(opened: Session) -> Catalog | None:
    try:
        return opened.files.catalog
    except RellumError:  # it is told by what needs it; the list does without
        return None


def _listed(
    status: ReleaseStatus, locked: LockedRelease | None, catalog: Catalog | None, shelf: Shelf
) -> ListedMod:
    card = catalog.mods.get(status.mod) if catalog else None
    release = release_of(locked, catalog) if catalog and locked else None
    return ListedMod(
        mod=status.mod,
        name=card.name if card else status.mod,
        kind=card.kind if card else "",
        release=status.laid,
        waits_for=status.chosen if status.waits else None,
        goes=status.chosen is None,
        since=status.since,
        because=status.because,
        page=_page(release, locked, shelf),
        licence=card.licence if card else "",
        notes=locked.check_by_hand if locked else (),
    )


def _page(release: Release | None, locked: LockedRelease | None, shelf: Shelf) -> str:
    """Return where a release is from: what its card says, else what the shelf knows of its first file."""
    if release:
        pages = (each.page or next(iter(each.urls), "") for each in release.all_files)
        if page := next(filter(None, pages), ""):
            return page
    for file in locked.files if locked else ():
        entry = shelf.find(file)
        if entry and (entry.origin.page or entry.origin.urls):
            return entry.origin.page or entry.origin.urls[0]
    return ""


def _of_catalog(mod: Mod, laid: ReleaseName | None, *, is_wanted: bool) -> CatalogMod:
    newest = next((each for each in mod.releases if not each.withdrawn), None)
    return CatalogMod(
        mod=mod.id,
        name=mod.name,
        kind=mod.kind,
        newest=ReleaseName(mod.id, newest.version.text, newest.build) if newest else None,
        game=(newest.game or "*") if newest else "",
        release_count=len(mod.releases),
        licence=mod.licence,
        laid=laid,
        is_wanted=is_wanted,
    )


def _has(words: Iterable[str], *texts: str) -> bool:
    everything = " ".join(texts).casefold()
    return all(word.casefold() in everything for word in words)
