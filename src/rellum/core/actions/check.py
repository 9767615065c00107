"""Check: is the game folder as it was left?"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from rellum.core.actions.open_pack import OnRecovered, OpenPack, open_pack
from rellum.core.folder.content import VANILLA, Content
from rellum.core.folder.drift import OwnFiles, find_deep_drift, find_drift
from rellum.core.folder.model import Drift, Finding
from rellum.core.pack.state import State
from rellum.core.paths import PlacePath
from rellum.core.progress import Listener, silent


def check(
    pack_folder: str, on_recovered: OnRecovered, *, deep: bool = False, listen: Listener = silent
) -> Drift:
    """Find drift. ``deep``: hash every file, also where size and time are as recorded."""
    with open_pack(pack_folder, on_recovered) as opened:
        return drift_of(opened, deep=deep, listen=listen)


def drift_of(opened: OpenPack, *, deep: bool = False, listen: Listener = silent) -> Drift:
    """Find the drift of a pack that is open. Raises OSError."""
    drift = find_drift(
        opened.state,
        opened.roots,
        lambda: _own_files(opened),
        lambda digest: opened.site.originals.has(digest),
    )
    if deep:
        files = list(_all_files(opened.state))
        own = _own_files(opened).of_the_game
        drift = find_deep_drift(drift, files, opened.roots, own, listen)
    if not any(each.kind == "changed" for each in drift.findings):
        return drift
    return replace(drift, findings=tuple(_with_members(each, opened) for each in drift.findings))


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
    from rellum.core.actions.needed import release_of
    from rellum.core.catalog.load import NoCatalog
    from rellum.core.pack.lock_file import NoLineUp, read_lock
    from rellum.core.pack.pack_file import read_pack_file

    try:
        catalog = catalog_of(opened.home, read_pack_file(opened.home))
    except NoCatalog:
        return OwnFiles()
    try:
        locked = read_lock(opened.home).releases
    except NoLineUp:
        locked = ()
    releases = (release_of(each, catalog) for each in locked)
    carried = [pattern for release in releases if release for pattern in release.carry]
    return OwnFiles(
        of_the_game=catalog.sheet.own_files, of_the_user=(*catalog.sheet.carry, *carried)
    )


def _all_files(state: State) -> Iterator[tuple[PlacePath, Content, str]]:
    """Yield every file that should be in the folder, as Rellum left it, with its owner."""
    laid = state.laid()
    for entry in state.baseline_files():
        if entry.path not in laid and entry.content is not None:
            yield entry.path, entry.content, VANILLA
    for each in laid.values():
        if each.content is not None:
            yield each.path, each.content, each.owner
