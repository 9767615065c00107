"""The mods that the game itself brings, as their own descriptions in the vanilla files say."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from rellum.core.catalog.self_descriptions import SelfDescription
from rellum.core.describing.own_files import MOST_BYTES
from rellum.core.describing.own_words import own_words_in
from rellum.core.globs import path_test
from rellum.core.values.paths import GAME_PREFIX, PlacePath, Roots

MOST_FILES = 400
"""More descriptions than this are not read in the game."""


def words_of_game(
    descriptions: Sequence[SelfDescription], vanilla: Sequence[PlacePath], roots: Roots
) -> frozenset[str]:
    """Return the ids of what the game brings in the form in which mods describe themselves."""
    found: set[str] = set()
    for description in descriptions:
        fits = path_test(f"**/{description.file}")
        paths = [path for path in vanilla if fits(path) and path.startswith(GAME_PREFIX)]
        for path in paths[:MOST_FILES]:
            content = _read(path, roots)
            words = own_words_in([description], [path.removeprefix(GAME_PREFIX)], _always(content))
            found |= {each.said_id for each in words}
    return frozenset(found)


def _always(content: bytes) -> Callable[[str], bytes]:
    return lambda _: content


def _read(path: PlacePath, roots: Roots) -> bytes:
    try:
        with open(roots.absolute(path), "rb") as file:
            return file.read(MOST_BYTES + 1)
    except OSError:
        return b""
