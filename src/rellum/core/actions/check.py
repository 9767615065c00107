"""Check: is the game folder as it was left?"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

from rellum.core.actions.open_pack import OnRecovered, OpenPack, open_pack
from rellum.core.folder.ahead import begun
from rellum.core.folder.content import VANILLA, Content
from rellum.core.folder.drift import OwnFiles, find_deep_drift, find_drift
from rellum.core.folder.model import Drift, Finding
from rellum.core.pack.state import State
from rellum.core.paths import PlacePath
from rellum.core.progress import Listener, silent

if TYPE_CHECKING:
    from rellum.core.catalog.model import Catalog, Release


def check(
    pack_folder: str, on_recovered: OnRecovered, *, deep: bool = False, listen: Listener = silent
) -> Drift:
    """Find drift. ``deep``: hash every file, also where size and time are as recorded."""
    with open_pack(pack_folder, on_recovered) as opened:
        drift = with_causes(drift_of(opened, deep=deep, listen=listen), opened)
        guarded = opened.state.guarded()
        if not guarded:
            return drift
        from rellum.core.actions.guard import look_at_guard

        return replace(drift, guard=look_at_guard(guarded, opened.roots))


def with_causes(drift: Drift, opened: OpenPack) -> Drift:
    """Sort what was found by its cause. Raises SumsFault, OSError."""
    if not drift.findings:
        return drift
    from rellum.core.actions.catalogs import catalog_of
    from rellum.core.actions.game_now import identity_of
    from rellum.core.catalog.load import NoCatalog
    from rellum.core.folder.causes import Surroundings, tell_causes
    from rellum.core.globs import any_test
    from rellum.core.pack.pack_file import read_pack_file

    try:
        catalog = catalog_of(opened.home, read_pack_file(opened.home))
    except NoCatalog:
        return drift
    obsolete = [pattern for each in _releases(opened, catalog) for pattern in each.obsolete]
    around = Surroundings(
        roots=opened.roots,
        sheet=catalog.sheet,
        identity=opened.state.identity(),
        identity_now=identity_of(opened, catalog.sheet),
        is_left_over=any_test(obsolete),
    )
    return tell_causes(drift, around)


def drift_of(opened: OpenPack, *, deep: bool = False, listen: Listener = silent) -> Drift:
    """Find the drift of a pack that is open. Raises OSError."""
    drift = find_drift(
        opened.state,
        opened.roots,
        lambda: _own_files(opened),
        lambda digest: opened.site.originals.has(digest),
        begun(opened.home.state_file),
    )
    if deep:
        files = list(_all_files(opened.state))
        own = _own_files(opened).of_the_game
        drift = find_deep_drift(drift, files, opened.roots, own, listen)
    if any(each.kind == "changed" for each in drift.findings):
        findings = tuple(_with_members(each, opened) for each in drift.findings)
        drift = replace(drift, findings=findings)
    return drift


def _with_members(finding: Finding, opened: OpenPack) -> Finding:
    """Tell what is other in a container, where the finding is of one that Rellum made."""
    laid = opened.state.laid([finding.path]).get(finding.path)
    content = laid.content if laid else None
    notes = opened.state.notes_of(content.digest) if content else ""
    if finding.kind != "changed" or not notes:
        return finding
    from rellum.core.patching.container import Rebuilt, compare_members, members_of
    from rellum.core.patching.model import PatchFault

    made = Rebuilt.from_notes(notes)
    try:
        now = members_of(opened.roots.absolute(finding.path), finding.path)
    except (PatchFault, OSError):
        return replace(finding, detail=f"{finding.detail}; it is no container any more")
    return replace(finding, members=tuple(compare_members(made.members, now) if made else ()))


def _own_files(opened: OpenPack) -> OwnFiles:
    """Return what the sheet and the line-up's cards call the game's or the user's own.

    Nothing without a catalog. Asked for, and imported, only when something differs: most checks find
    nothing.
    """
    from rellum.core.actions.catalogs import catalog_of
    from rellum.core.catalog.load import NoCatalog
    from rellum.core.pack.pack_file import read_pack_file

    try:
        catalog = catalog_of(opened.home, read_pack_file(opened.home))
    except NoCatalog:
        return OwnFiles()
    carried = [pattern for each in _releases(opened, catalog) for pattern in each.carry]
    return OwnFiles(
        of_the_game=catalog.sheet.own_files, of_the_user=(*catalog.sheet.carry, *carried)
    )


def _releases(opened: OpenPack, catalog: Catalog) -> list[Release]:
    """Return the releases of the line-up that the catalog has."""
    from rellum.core.actions.needed import release_of
    from rellum.core.pack.lock_file import NoLineUp, read_lock

    try:
        locked = read_lock(opened.home).releases
    except NoLineUp:
        return []
    return [release for each in locked if (release := release_of(each, catalog))]


def _all_files(state: State) -> Iterator[tuple[PlacePath, Content, str]]:
    """Yield every file that should be in the folder, as Rellum left it, with its owner."""
    laid = state.laid()
    for entry in state.baseline_files():
        if entry.path not in laid and entry.content is not None:
            yield entry.path, entry.content, VANILLA
    for each in laid.values():
        if each.content is not None:
            yield each.path, each.content, each.owner
