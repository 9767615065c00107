"""Mods, options and the game's properties, as the numbered variables of the engine."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from rellum.core.catalog.model import Catalog, Mod, OptionChoice, OptionGroup, Release
from rellum.core.catalog.terms import ModTerms, TermsBook, ascending, mask_in
from rellum.core.solving.clauses import Literal
from rellum.core.solving.engine import Engine
from rellum.core.solving.problem import Problem
from rellum.core.values.ids import ModId
from rellum.core.versions.ranges import Range, parse_range
from rellum.core.versions.version import Version

ABSENT = 1
"""The mask of "not in the line-up": value 0 of every mod, option and expansion."""

THERE = 0b10
"""The mask of an expansion that the game has."""
OFF, ON = 0b010, 0b100
"""The masks of a choice of an option group "any"."""

Entry = tuple[Literal, ...]
"""What has to come into the line-up: the first of these that can be had."""


@dataclass(slots=True, eq=False)
class ModVariable:
    """A mod: value 0 is "not in the line-up", the others are its releases, the newest first.

    ``everything`` is the mask of all values, and ``considered`` that of the releases that the search
    looks at.
    """

    number: int
    id: ModId
    terms: ModTerms
    everything: int
    considered: int
    catalog: Catalog
    book: TermsBook
    read: dict[int, Release] = field(default_factory=dict)
    """The releases that were asked for so far, by value."""

    @property
    def mod(self) -> Mod:
        """The mod itself, read when it is first asked for."""
        return self.catalog.mods[self.id]

    def release(self, value: int) -> Release:
        """Return the release of a value."""
        found = self.read.get(value)
        if found is None:
            found = self.read[value] = self.mod.releases[value - 1]
        return found

    def mask(self, range_: Range) -> int:
        """Return the values whose versions lie in a range."""
        if range_.is_any:
            return self.everything & ~ABSENT
        return mask_in(range_, ascending(self.book.versions(self.id)))

    def mask_of(self, releases: Iterable[Release]) -> int:
        """Return the values of some of its releases."""
        names = self.book.names(self.id)
        return sum({names.mask(each.version.text, each.build) for each in releases})

    def mask_of_version(self, version: Version, build: str | None = None) -> int:
        """Return the values of a version: of the one that is written so, else of those that are the same.

        ``build``: only of that build.
        """
        names = self.book.names(self.id)
        if build is not None and (written_so := names.mask(version.text, build)):
            return written_so
        return sum(
            1 << at
            for at, (each, its) in enumerate(
                zip(self.book.versions(self.id), names.builds, strict=True), 1
            )
            if each == version and build in (None, its)
        )

    def releases(self, mask: int) -> tuple[Release, ...]:
        """Return the releases of a mask, the newest first."""
        return tuple(self.release(at) for at in range(1, self.terms.count + 1) if mask >> at & 1)


@dataclass(slots=True, eq=False)
class GroupVariable:
    """An option group: value 0 is "does not apply", the others are its choices.

    A choice of a group "any" is a variable of its own, with the values "off" and "on"; there
    ``choices`` are None and the choice.
    """

    number: int
    owner: ModVariable
    group: OptionGroup
    choices: tuple[OptionChoice | None, ...]
    preferred: int

    @property
    def everything(self) -> int:
        """The mask of all values."""
        return (2 << len(self.choices)) - 1

    @property
    def entry(self) -> Entry:
        """What the search tries: the default first."""
        return ((self.number, self.preferred), (self.number, self.everything & ~ABSENT))

    def mask(self, names: Iterable[str]) -> int:
        """Return the values of the choices of these names; "off" where that is among them."""
        wanted = set(names)
        return sum(
            1 << at
            for at, choice in enumerate(self.choices, 1)
            if (choice.id if choice else "") in wanted
        )


class Surroundings:
    """The game's version, edition and expansions as variables, so that they can be supposed."""

    def __init__(self, engine: Engine, games: Sequence[Version], editions: Sequence[str]) -> None:
        """Make the variables; nothing about the game is fixed yet."""
        self.engine = engine
        self.games = tuple(sorted(set(games)))
        self.editions = tuple(editions)
        self.expansions: dict[str, int] = {}
        self._there: frozenset[str] | None = None
        self.game = engine.add_variable(len(self.games))
        self.edition = engine.add_variable(len(self.editions) + 1)
        self._keys = [version.key for version in self.games]
        self._masks: dict[tuple[str, tuple[Version, ...]], int] = {}

    def fix(self, problem: Problem) -> None:
        """Fix for good what the game is, as a problem has it."""
        games = sum(1 << self.games.index(each) for each in set(problem.games))
        self.engine.add([(self.game, games)], None)
        self.engine.add([(self.edition, self.edition_mask([problem.edition]))], None)
        self._there = frozenset(problem.expansions)

    @property
    def every_game(self) -> int:
        """The mask of all game versions."""
        return (1 << len(self.games)) - 1

    def game_mask(self, text: str, also: tuple[Version, ...] = ()) -> int:
        """Return the game versions in a range, and some more, as a mask."""
        found = self._masks.get((text, also))
        if found is None:
            found = self._masks[text, also] = self._make_game_mask(text, also)
        return found

    def _make_game_mask(self, text: str, also: tuple[Version, ...]) -> int:
        mask = sum(1 << self.games.index(version) for version in set(also) & set(self.games))
        for start, stop in parse_range(text).spans(self._keys):
            mask |= ((1 << (stop - start)) - 1) << start
        return mask

    def edition_mask(self, names: Iterable[str | None]) -> int:
        """Return the editions of these names; value 0 is any that is not known."""
        wanted = set(names)
        known = sum(1 << at for at, name in enumerate(self.editions, 1) if name in wanted)
        return known | (not wanted <= set(self.editions) and None in wanted)

    def expansion(self, name: str) -> int:
        """Return the variable of an expansion, made when it is first asked for."""
        if name not in self.expansions:
            number = self.expansions[name] = self.engine.add_variable(2)
            if self._there is not None:
                self.engine.add([(number, THERE if name in self._there else ABSENT)], None)
        return self.expansions[name]
