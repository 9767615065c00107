"""A game's own profiles: the load-order file of the one that the pack names, what others still name."""

from __future__ import annotations

import os
import re
from collections.abc import Collection, Iterator
from dataclasses import replace

from rellum.core.catalog.model import GameSheet, LoadOrderFile
from rellum.core.errors import UserError
from rellum.core.pack.pack_file import PackFile
from rellum.core.values.paths import PlacePath, Roots, below, is_in_game, root_of, shown
from rellum.core.words import quoted

_MOST_BYTES = 1 << 20


class NoProfile(UserError):
    """The game has several profiles, and the pack does not say for which it is."""

    code = "no-profile"


def of_profile(sheet: GameSheet, pack: PackFile, roots: Roots) -> GameSheet:
    """Return a sheet whose load-order file is that of the pack's profile. Raises NoProfile.

    Where the pack names none, it is the only one that there is.
    """
    rule = sheet.load_order
    if rule is None or rule.profiles is None:
        return sheet
    names = profiles_in(rule.profiles, roots)
    profile = pack.profile or (names[0] if len(names) == 1 else "")
    if not profile:
        there = f"there are {', '.join(names)}" if names else f"{shown(rule.profiles)} has none yet"
        raise NoProfile(
            f"the game keeps a load order for each profile, and the pack names none; {there}",
            hint=f"For example: rellum decide profile {quoted(names[0] if names else 'main')}",
        )
    path = below(below(rule.profiles, profile), rule.path.rpartition("/")[2])
    return replace(sheet, load_order=replace(rule, path=path))


def profiles_in(folder: PlacePath, roots: Roots) -> list[str]:
    """Return the profiles that there are: folders in a folder."""
    if not (is_in_game(folder) or root_of(folder) in roots.outside):
        return []
    try:
        with os.scandir(roots.absolute(folder)) as found:
            return sorted(each.name for each in found if each.is_dir(follow_symlinks=False))
    except OSError:
        return []


def still_named(
    rule: LoadOrderFile, gone: Collection[str], roots: Roots
) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Yield the other profiles whose load order names entries that went, with these."""
    if rule.profiles is None or not gone:
        return
    own = rule.path.rpartition("/")[0].rpartition("/")[2]
    name = rule.path.rpartition("/")[2]
    for profile in profiles_in(rule.profiles, roots):
        if profile == own:
            continue
        try:
            with open(roots.absolute(below(below(rule.profiles, profile), name)), "rb") as file:
                text = file.read(_MOST_BYTES).decode("utf-8", "replace")
        except OSError:
            continue
        found = tuple(
            each
            for each in sorted(gone)
            if re.search(rf"(?<![\w.-]){re.escape(each)}(?![\w.-])", text)
        )
        if found:
            yield profile, found
