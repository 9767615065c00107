"""Where an archive's content belongs: by the game's places, its vanilla files, and folders' names."""

from __future__ import annotations

import os
import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Final, NamedTuple

from rellum.core.catalog.open_lines import VALUE
from rellum.core.globs import literal
from rellum.core.values.paths import GAME, GAME_PREFIX, PlacePath

BESIDE: Final = re.compile(
    r"(read ?me|licen[cs]e|change ?log|changes|credits|install|copying)[^/]*$|\.(url|md|nfo)$",
    re.IGNORECASE,
)
_FIT: Final = 0.5
"""A folder fits where this share of its files would replace vanilla ones."""
_ALIKE: Final = 0.6
"""Folders are alternatives where this share of their files have the same names."""


Choice = tuple[str, str]
"""An option group and one of its choices."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """What is taken where, and what that rests on. ``replaces`` are the vanilla files under it;
    ``leave_out`` names of files that are not taken.

    ``choice``: the option group and choice that it is for; None: for all. ``is_packed``: the archive itself
    is laid, as it is.
    """

    take: str
    to: str
    expect: tuple[str, ...]
    reason: str
    is_sure: bool
    replaces: tuple[str, ...]
    choice: Choice | None
    leave_out: tuple[str, ...] = ()
    is_packed: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Alternatives:
    """Alternative folders below the folder ``above``, and the option made of them."""

    group: str
    above: str
    names: tuple[str, ...]


class Home(NamedTuple):
    """The folder of its own that a mod gets, and why that is certain; all is empty where nothing tells.

    ``at`` is where the archive has it, with a slash; None: it is not told.
    """

    folder: str = ""
    reason: str = ""
    at: str | None = None


NO_HOME = Home()


@dataclass(frozen=True, slots=True, kw_only=True)
class Shape:
    """How an archive is laid. ``wrapper`` are the folders that the game must not see."""

    wrapper: str
    rules: tuple[Rule, ...]
    alternatives: tuple[Alternatives, ...]
    left_out: tuple[str, ...]


class Game:
    """What is known of the game: its vanilla files and its places.

    ``told_in`` are names of files in which mods describe themselves: every mod has one, so that they tell
    nothing of where it belongs. ``members`` are those of vanilla's containers.
    """

    def __init__(
        self,
        vanilla: Iterable[PlacePath],
        places: Mapping[str, PlacePath],
        told_in: Iterable[str] = (),
        members: Iterable[PlacePath] = (),
    ) -> None:
        self._told_in = frozenset(name.casefold() for name in told_in)
        self.places = dict(places)
        self.vanilla: dict[str, str] = {path.casefold(): path for path in vanilla}
        folders = [path.removeprefix(GAME_PREFIX).split("/")[0] for path in places.values()]
        folders += [path.split("/")[1] for path in self.vanilla.values() if path.count("/") > 1]
        self.top_folders = {folder.casefold() for folder in folders}
        self.vanilla |= {path.casefold(): path for path in members}
        self._containers = _containers(self.vanilla.values())
        self._folders_of: dict[str, set[str]] = {}
        for path in self.vanilla.values():
            folder, _, name = path.rpartition("/")
            self._folders_of.setdefault(name.casefold(), set()).add(folder)

    def place_text(self, path: str) -> str:
        """Return a path by the nearest place: ``@data/`` rather than ``@game/data/``."""
        fitting = [
            (len(base), f"@{name}{path[len(base) :]}")
            for name, base in self.places.items()
            if path == base or path.startswith(base + "/")
        ]
        return (max(fitting)[1] if fitting else path) + "/"

    def named(self, name: str) -> str:
        """Return the place, or the container, whose name this is, else an empty string."""
        for place, base in self.places.items():
            if name.casefold() in (place.casefold(), base.rpartition("/")[2].casefold()):
                return base
        return self._containers.get(name.casefold(), "")

    def fits(self, relative: Sequence[str]) -> tuple[list[str], list[str]]:
        """Return the folders under which most of these paths are vanilla files, and those of the first."""
        votes: Counter[str] = Counter()
        for path in relative:
            folder, _, name = path.casefold().rpartition("/")
            if name in self._told_in:
                continue
            for above in self._folders_of.get(name, ()):
                base = above if not folder else above[: -len(folder) - 1]
                if not folder or above.casefold().endswith("/" + folder):
                    votes[base] += 1
        if not votes:
            return [], []
        most = max(votes.values())
        bases = sorted(
            (each for each in votes if votes[each] == most), key=lambda each: (len(each), each)
        )
        return bases, self.replaced(bases[0], relative)

    def replaced(self, base: str, relative: Iterable[str]) -> list[str]:
        """Return the vanilla files that these paths would replace under a folder."""
        found = (self.vanilla.get(f"{base}/{path}".casefold()) for path in relative)
        return [path for path in found if path]


def guess_shape(paths: Sequence[str], game: Game, mod_id: str, homes: Sequence[Home] = ()) -> Shape:
    """Guess what of an archive goes where. ``homes`` is what is known of folders of its own."""
    left_out = tuple(path for path in paths if BESIDE.search(path) and path.count("/") <= 1)
    apart = frozenset(left_out)
    files = [path for path in paths if path not in apart]
    wrapper = _wrapper(files, game)
    inside = [path[len(wrapper) :] for path in files]
    told = [each.at for each in homes if each.at is not None]
    if told and wrapper.startswith(min(told, key=len)):  # the wrapper is the mod's own folder
        wrapper = min(told, key=len)
        inside = [path[len(wrapper) :] for path in files]
    finder = _Finder(game, mod_id, {_within(each, wrapper): each for each in homes})
    finder.leave_out(path[len(wrapper) :] for path in left_out if path.startswith(wrapper))
    finder.look("", inside)
    return Shape(
        wrapper=wrapper,
        rules=tuple(finder.rules),
        alternatives=tuple(finder.alternatives),
        left_out=left_out,
    )


def _within(home: Home, wrapper: str) -> str | None:
    """Return where a home lies below the wrapper; None where the archive does not tell."""
    return None if home.at is None else home.at.removeprefix(wrapper)


def _wrapper(files: Sequence[str], game: Game) -> str:
    """Return the folders, with slash, that all files lie in and that mean nothing to the game."""
    if not files:
        return ""
    common = os.path.commonpath([os.path.dirname(path) or "." for path in files])
    parts = [] if common in ("", ".") else common.replace(os.sep, "/").split("/")
    kept: list[str] = []
    for part in parts:
        if part.casefold() in game.top_folders or game.named(part):
            break
        kept.append(part)
    # The last folder of a mod is its own: seen through as well, but it may be what it is called.
    return "/".join(kept) + "/" if kept else ""


class _Finder:
    """Goes through the folders from the top, and stops where a folder's files belong together."""

    def __init__(self, game: Game, mod_id: str, homes: Mapping[str | None, Home]) -> None:
        self._game = game
        self._mod_id = mod_id
        self._homes = homes
        self._beside: tuple[str, ...] = ()
        self.rules: list[Rule] = []
        self.alternatives: list[Alternatives] = []
        self._choice: Choice | None = None

    def leave_out(self, paths: Iterable[str]) -> None:
        """Note files that lie beside those of the mod, and are not taken."""
        self._beside = tuple(paths)

    def look(self, folder: str, files: Sequence[str]) -> None:
        """Find rules for the files below a folder, both relative to the wrapper."""
        relative = [path[len(folder) :] for path in files]
        children = _by_child(relative)
        here = children.pop("", [])
        are_homes = any(each and each.startswith(folder) for each in self._homes)
        if (
            not here
            and not are_homes
            and self._choice is None
            and (alike := _alternatives(children))
        ):
            self._choose(folder, alike, files)
        elif self._rule_for(folder, relative, children, here):
            return
        else:
            for child, its_files in sorted(children.items()):
                prefix = f"{folder}{child}/"
                self.look(prefix, [prefix + path for path in its_files])

    def _rule_for(
        self,
        folder: str,
        relative: Sequence[str],
        children: Mapping[str, list[str]],
        here: Sequence[str],
    ) -> bool:
        """Add a rule for a whole folder, if it belongs together; say whether it does."""
        game = self._game
        if folder in self._homes:
            self._add_home(folder, relative, self._homes[folder])
            return True
        if children and not here and all(name.casefold() in game.top_folders for name in children):
            names = ", ".join(sorted(children))
            self._add(folder, GAME, relative, f"its folders are the game's: {names}", sure=True)
            return True
        bases, hits = game.fits(relative)
        if hits and len(hits) >= _FIT * len(relative):
            share = "all" if len(hits) == len(relative) else f"{len(hits)} of {len(relative)}"
            share += " files are vanilla files there"
            if others := bases[1:4]:
                share += (
                    f", and as many in {', '.join(map(game.place_text, others))}: which is meant?"
                )
            self._add(folder, bases[0], relative, share, sure=not others)
            return True
        named = game.named(folder.rstrip("/").rpartition("/")[2]) if folder else ""
        if named:
            what = "container" if named.endswith("!") else "place"
            self._add(folder, named, relative, f"the folder has that {what}'s name", sure=True)
            return True
        if not here:
            return False
        self._add_home(folder, relative, self._homes.get(None, NO_HOME))
        return True

    def _add_home(self, folder: str, relative: Sequence[str], home: Home) -> None:
        """Lay a folder as the mod's own, below the place of mods."""
        place = self._game.places.get("mods")
        # Without a place for mods, nobody knows where: never into the game's own root.
        to = f"{place}/{home.folder or self._mod_id or VALUE}" if place else f"{GAME}/{VALUE}"
        reason = home.reason or "nothing in the game is like it: a folder of its own"
        self._add(folder, to, relative, reason, sure=bool(place and home.reason))

    def _choose(self, folder: str, alike: Sequence[str], files: Sequence[str]) -> None:
        """Make an option of alternatives, with rules for each of them."""
        number = len(self.alternatives) + 1
        group = "variant" if number == 1 else f"variant-{number}"
        self.alternatives.append(Alternatives(group=group, above=folder, names=tuple(alike)))
        for name in alike:
            prefix = f"{folder}{name}/"
            self._choice = (group, as_choice(name))
            self.look(prefix, [path for path in files if path.startswith(prefix)])
        self._choice = None
        others = [
            path
            for path in files
            if not path[len(folder) :].startswith(tuple(f"{a}/" for a in alike))
        ]
        for child in sorted(_by_child([path[len(folder) :] for path in others])):
            below = f"{folder}{child}/"
            self.look(below, [path for path in others if path.startswith(below)])

    def _left_out_below(self, folder: str) -> tuple[str, ...]:
        below = (path[len(folder) :] for path in self._beside if path.startswith(folder))
        return tuple(sorted({literal(path) for path in below}))

    def _add(
        self, folder: str, base: str, relative: Sequence[str], reason: str, *, sure: bool
    ) -> None:
        tops = sorted({path if "/" not in path else path.split("/")[0] + "/" for path in relative})
        files_first = sorted(tops, key=lambda each: (each.endswith("/"), each))
        self.rules.append(
            Rule(
                take=f"{literal(folder)}**",
                to=self._game.place_text(base),
                expect=tuple(files_first[:2]),
                reason=reason,
                is_sure=sure,
                replaces=tuple(self._game.replaced(base, relative)),
                choice=self._choice,
                leave_out=self._left_out_below(folder),
            )
        )


def _containers(paths: Iterable[str]) -> dict[str, str]:
    """Return the containers that paths of members name, by their files' names; those of one name not."""
    found: dict[str, set[str]] = {}
    for path in paths:
        container, mark, _ = path.partition("!/")
        if mark:
            name = container.rpartition("/")[2].casefold()
            found.setdefault(name, set()).add(f"{container}!")
    return {name: each.pop() for name, each in found.items() if len(each) == 1}


def as_choice(name: str) -> str:
    """Return the id of the choice that a folder stands for."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "choice"


def _by_child(relative: Iterable[str]) -> dict[str, list[str]]:
    """Group paths by their first folder; those that lie in none under an empty name."""
    found: dict[str, list[str]] = {}
    for path in relative:
        head, slash, rest = path.partition("/")
        found.setdefault(head if slash else "", []).append(rest if slash else path)
    return found


def _alternatives(children: Mapping[str, Sequence[str]]) -> list[str]:
    """Return the folders that hold much the same names: of them one is meant to be chosen."""
    names = sorted(children)
    best: list[str] = []
    for first in names:
        own = {path.casefold() for path in children[first]}
        alike = [
            other
            for other in names
            if other == first
            or _share(own, {path.casefold() for path in children[other]}) >= _ALIKE
        ]
        if len(alike) > max(1, len(best)):
            best = alike
    return best


def _share(one: set[str], other: set[str]) -> float:
    return len(one & other) / max(1, min(len(one), len(other)))
