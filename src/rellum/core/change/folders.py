"""The folders that a plan needs, and those that it leaves empty."""

from __future__ import annotations

import os
import stat
from collections.abc import Collection, Iterable, Mapping

from rellum.core.change.operations import Operation
from rellum.core.pack.rows import BaselineEntry
from rellum.core.pack.standing import CannotLay
from rellum.core.pack.state import State
from rellum.core.values.content import Laid
from rellum.core.values.paths import GAME, PlacePath, Roots, is_in_game, parents, shown


def refuse_files_above(paths: Iterable[PlacePath], roots: Roots) -> None:
    """Refuse to lay a file under something that is no real folder. Raises CannotLay."""
    checked: set[PlacePath] = {PlacePath(GAME), *map(PlacePath, roots.outside)}
    for path in paths:
        for folder in parents(path):
            if folder in checked:
                break
            checked.add(folder)
            try:
                mode = os.lstat(roots.absolute(folder)).st_mode
            except (FileNotFoundError, NotADirectoryError):
                continue
            if not stat.S_ISDIR(mode):
                what = "a link" if stat.S_ISLNK(mode) else "a file"
                raise CannotLay(
                    f"{shown(folder)} is {what} in the game folder, "
                    f"and {shown(path)} should go below it",
                    hint="Rellum never writes through a link. Move it away, or correct the card.",
                )


def new_folders(
    operations: Iterable[Operation],
    baseline: Mapping[PlacePath, BaselineEntry],
    wanted: Iterable[PlacePath],
    roots: Roots,
) -> list[PlacePath]:
    """Return the folders to be made: above files that come, vanilla ones that are lost, and ``wanted``."""
    needed = {f for each in operations if each.after for f in parents(each.path)}
    needed |= {folder for path in wanted for folder in (path, *parents(path))}
    for entry in baseline.values():
        if entry.kind == "folder":
            needed |= {entry.path, *parents(entry.path)}
    return sorted(each for each in needed if not os.path.isdir(roots.absolute(each)))


def spare_folders(
    operations: Iterable[Operation],
    noted: Iterable[Laid],
    forgotten: Iterable[PlacePath],
    wanted: Iterable[PlacePath],
    state: State,
    roots: Roots,
    all_laid: Collection[PlacePath] | None,
) -> list[PlacePath]:
    """Return the folders that only layers filled: above files that go or went, and nobody else's.

    ``all_laid``: everything that is laid so far, where the plan is for all of it; then any other
    folder which Rellum made is spare, too.
    """
    made = state.own_folders()
    going = {each.path for each in operations if each.after is None}
    going |= {each.path for each in noted if each.content is None}
    going |= set(forgotten)
    spare = {folder for path in going for folder in parents(path) if folder != GAME}
    if all_laid is None:
        spare = {each for each in spare if going.issuperset(state.laid_below(each))}
    else:
        spare = (spare | made) - _folders_above(path for path in all_laid if path not in going)
    spare -= {f for each in operations if each.after for f in parents(each.path)}
    spare -= {f for each in noted if each.content for f in parents(each.path)}
    spare -= {folder for path in wanted for folder in (path, *parents(path))}
    vanilla = state.baseline(spare)
    return sorted(
        (
            folder
            for folder in spare
            if (folder not in vanilla if is_in_game(folder) else folder in made)
            and os.path.isdir(roots.absolute(folder))
        ),
        key=len,
        reverse=True,
    )


def _folders_above(paths: Iterable[PlacePath]) -> set[PlacePath]:
    found: set[PlacePath] = set()
    for path in paths:
        for folder in parents(path):
            if folder in found:
                break
            found.add(folder)
    return found
