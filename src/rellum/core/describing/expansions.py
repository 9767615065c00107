"""Folders that are rather an expansion's: of the same shape as a folder beside them, or named so."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Mapping
from typing import Final, Protocol

_NAMED: Final = re.compile(r"(?:expansions?|dlcs?|episodes?)\Z", re.IGNORECASE)
"""Folders that hold expansions, each in a folder of its own."""
_BASES: Final = frozenset(("base", "main", "core", "common", "original", "vanilla", "game"))
"""Names of the folder that every copy of a game has."""
_NEVER: Final = re.compile(
    r"(?:mods?|plugins?|addons?|lib|libs|runtime|lang|languages?|locales?|doc|docs|bin)\Z",
    re.IGNORECASE,
)
_ALIKE: Final = 0.6
_FEWEST: Final = 2


class File(Protocol):
    """A file of the game, by its path below the game folder."""

    @property
    def path(self) -> str:
        """Its path, with slashes."""


def alike_folders(files: Iterable[File]) -> list[str]:
    """Return folders, at most two deep, that seem to be there only with an expansion.

    They lie in a folder called after expansions, or hold mostly the names of a base folder beside them.
    """
    inside: dict[str, dict[str, set[str]]] = defaultdict(lambda: defaultdict(set))
    for each in files:
        parts = each.path.split("/")
        for depth in range(1, min(3, len(parts))):
            above = "/".join(parts[: depth - 1])
            inside[above][parts[depth - 1]].add("/".join(parts[depth:]).casefold())
    found = []
    for above, folders in sorted(inside.items()):
        if any(_NEVER.match(part) for part in above.split("/")):
            continue
        names = folders if _NAMED.match(above.rpartition("/")[2]) else _like_a_base(folders)
        found += [f"{above}/{name}" if above else name for name in sorted(names)]
    return found[:12]


def _like_a_base(folders: Mapping[str, set[str]]) -> list[str]:
    base = next((folders[name] for name in folders if name.casefold() in _BASES), None)
    if base is None or len(base) < _FEWEST:
        return []
    return [
        name
        for name, paths in folders.items()
        if name.casefold() not in _BASES
        and not _NEVER.match(name)
        and len(paths & base) >= max(_FEWEST, _ALIKE * min(len(paths), len(base)))
    ]
