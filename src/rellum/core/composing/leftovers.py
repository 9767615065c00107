"""Files that older releases, laid by hand or by another tool, may have left behind."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator

from rellum.core.composing.layering import LineUpInputs
from rellum.core.composing.needed import release_of
from rellum.core.composing.wanted import IsCarried, LeftOver
from rellum.core.composing.workshop import Workshop
from rellum.core.globs import fixed_folder
from rellum.core.layers.model import Target
from rellum.core.values.ids import ReleaseName
from rellum.core.values.paths import PlacePath, Roots, below, is_in_game


def find_leftovers(
    line_up: LineUpInputs, target: Target, roots: Roots, is_carried: IsCarried
) -> tuple[LeftOver, ...]:
    """Return what the cards of the line-up name as obsolete, is there, and is neither vanilla nor laid."""
    found: dict[PlacePath, ReleaseName] = {}
    for locked in line_up.lock.releases:
        release = release_of(locked, line_up.catalog)
        for pattern in release.obsolete if release else ():
            for path in _matching(pattern, roots, line_up.workshop):
                found.setdefault(path, locked.name)
    state = line_up.workshop.opened.state
    known = {*state.baseline(found), *state.laid(found), *target.files}
    known |= {path for path in found if is_carried(path)}  # what is the user's own is no left-over
    return tuple(
        LeftOver(path=path, named_by=owner)
        for path, owner in sorted(found.items())
        if path not in known
    )


def _matching(pattern: str, roots: Roots, workshop: Workshop) -> Iterator[PlacePath]:
    """Yield the files on disk that fit a pattern; only the folders that it can mean are read."""
    folder = workshop.spelt(PlacePath(fixed_folder(pattern).rstrip("/")))
    if not is_in_game(folder) and folder.partition("/")[0] not in roots.outside:
        return
    fits = workshop.path_rules.test([pattern])
    for path in _files_below(folder, roots):
        if fits(path):
            yield path


def _files_below(folder: PlacePath, roots: Roots) -> Iterable[PlacePath]:
    start = roots.absolute(folder)
    for inside, _, names in os.walk(start):
        relative = os.path.relpath(inside, start).replace(os.sep, "/")
        here = folder if relative == "." else below(folder, relative)
        for name in names:
            if not os.path.islink(os.path.join(inside, name)):
                yield below(here, name)
