"""Archives that the game keeps packed: what they hold, and which archives of mods are like them."""

from __future__ import annotations

import os
import zipfile
from collections import defaultdict
from collections.abc import Iterable, Sequence
from typing import Final, NamedTuple

from rellum.core.archives.forms import ENDINGS
from rellum.core.describing.shape import BESIDE, Game, Rule, Shape
from rellum.core.globs import PathTest
from rellum.core.values.paths import GAME, PlacePath, Roots

_MOST_FOLDERS: Final = 30
_MOST_LOOKED_AT: Final = 3
_MOST_CONTAINERS: Final = 100
_MOST_MEMBERS: Final = 50_000


class PackedHome(NamedTuple):
    """A folder in which the game has packed archives.

    ending: how their names end
    marks: the files at the top of each of them
    size: how many there are
    """

    folder: PlacePath
    ending: str
    marks: frozenset[str]
    size: int


def packed_homes(
    vanilla: Iterable[PlacePath], roots: Roots, is_container: PathTest
) -> tuple[PackedHome, ...]:
    """Return the folders in which vanilla has zips, with what all of these have at their top.

    ``is_container`` tells zips under other endings, as the sheet names them.
    """
    groups: dict[tuple[str, str], list[PlacePath]] = defaultdict(list)
    for path in vanilla:
        ending = os.path.splitext(path)[1].lower()
        if ending == ".zip" or is_container(path):
            groups[path.rpartition("/")[0], ending].append(path)
    found = []
    for (folder, ending), paths in sorted(groups.items())[:_MOST_FOLDERS]:
        tops = [_top_files(roots.absolute(path)) for path in paths[:_MOST_LOOKED_AT]]
        if all(top is not None for top in tops):
            marks = frozenset.intersection(*(top for top in tops if top is not None))
            found.append(PackedHome(PlacePath(folder), ending, marks, len(paths)))
    return tuple(found)


def container_members(
    vanilla: Iterable[PlacePath], roots: Roots, is_container: PathTest
) -> tuple[PlacePath, ...]:
    """Return what vanilla's containers hold, as paths of members: ``@game/data/core.pak!/maps/fen.map``.

    Bounded by so many containers and members: a guess needs no more.
    """
    found: list[PlacePath] = []
    for path in list(filter(is_container, vanilla))[:_MOST_CONTAINERS]:
        names = _names(roots.absolute(path)) or ()
        found += [PlacePath(f"{path}!/{name}") for name in names if not name.endswith("/")]
        if len(found) > _MOST_MEMBERS:
            break
    return tuple(found[:_MOST_MEMBERS])


def _names(path: str) -> Sequence[str] | None:
    """Return the names in a zip; None where it is none."""
    try:
        with zipfile.ZipFile(path) as archive:
            return archive.namelist()
    except (OSError, zipfile.BadZipFile, ValueError, NotImplementedError):
        return None


def _top_files(path: str) -> frozenset[str] | None:
    """Return the files at the top of a zip; None where it is none."""
    names = _names(path)
    if names is None:
        return None
    return frozenset(name for name in names if "/" not in name and not BESIDE.search(name))


def packed_shape(
    name: str, members: Sequence[str], mod_id: str, homes: Sequence[PackedHome], game: Game
) -> Shape | None:
    """Return how an archive is laid that looks like those which the game keeps packed, or None."""
    ending = os.path.splitext(name)[1].lower()
    tops = {each for each in members if "/" not in each}
    fitting = [
        home
        for home in homes
        if home.ending == ending
        and ((home.marks <= tops and bool(home.marks)) or ending not in ENDINGS)
    ]
    if not fitting:
        return None
    home = fitting[0]
    vanilla = game.vanilla.get(f"{home.folder}/{name}".casefold())
    file = vanilla.rpartition("/")[2] if vanilla else f"{mod_id}{ending}"
    others = ", ".join(game.place_text(each.folder) for each in fitting[1:3])
    reason = f"the game keeps such archives packed in {game.place_text(home.folder)}"
    rule = Rule(
        take="",
        to=f"{game.place_text(home.folder)}{file}",
        expect=(),
        reason=reason + (f", and in {others}: which is meant?" if others else ""),
        is_sure=not others and home.folder != GAME and (home.size > 1 or bool(home.marks)),
        replaces=(vanilla,) if vanilla else (),
        choice=None,
        is_packed=True,
    )
    return Shape(wrapper="", rules=(rule,), alternatives=(), left_out=())
