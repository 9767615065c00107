"""Outline: what a line-up would change, as far as that can be said while archives are missing."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from rellum.core.change.opening import open_pack
from rellum.core.change.preparing import line_up_for
from rellum.core.change.request import Request
from rellum.core.composing.in_folder import InFolder
from rellum.core.composing.known_folders import known_folders
from rellum.core.composing.needed import NeededFile, missing_among, needed_files
from rellum.core.shelf.store import Shelf
from rellum.core.values.ids import ReleaseName


@dataclass(frozen=True, slots=True, kw_only=True)
class ReleaseChange:
    """A mod whose release in the game is another than in the line-up; empty where it has none.

    missing: files of it that are not on the shelf
    """

    mod: str
    before: str
    after: str
    missing: tuple[NeededFile, ...] = ()


def _label(release: ReleaseName) -> str:
    return f"{release.version} ({release.build})" if release.build else release.version


def outline(request: Request, newest: Collection[str] = ()) -> tuple[ReleaseChange, ...]:
    """Return which releases would come, go or change, in load order. ``newest`` as in ``preview``.

    Raises NoLineUp, NoLineUpExists, and what reading can raise.
    """
    with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
        lock, _ = line_up_for(opened, shelf, newest)
        catalog = opened.files.catalog
        known = known_folders(opened.state, catalog.sheet, opened.files.pack)
        in_folder = InFolder(opened.state, opened.roots, known)
        missing = missing_among(needed_files(lock, catalog, shelf, in_folder))
        laid = {each.mod: _label(each) for each in opened.state.releases_in_game()}
    after = {each.mod: each.label for each in lock.releases}
    after |= {each.mod: each.name.version for each in lock.grafts}
    return tuple(
        ReleaseChange(
            mod=mod,
            before=laid.get(mod, ""),
            after=after.get(mod, ""),
            missing=tuple(each for each in missing if each.release.mod == mod),
        )
        for mod in dict.fromkeys((*after, *laid))
        if laid.get(mod, "") != after.get(mod, "")
    )
