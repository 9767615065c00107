"""From cards to clauses.

All mods that the wants can bring in become variables before the search, with what binds their
releases to the game. What a release needs and clashes with becomes clauses only when that release is
taken up: most releases of a large catalog never are. Releases that say the same go into one clause,
so that what is learned of one is learned of all.

The game's version, its edition and each expansion are variables too, fixed only by what is supposed
(``rellum.core.solving.search``): what was learned for one game holds for every other.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping

from rellum.core.catalog.model import Catalog, OptionChoice, OptionGroup, Release, Trial
from rellum.core.solving import causes
from rellum.core.solving.causes import Cause
from rellum.core.solving.engine import Engine, Literal
from rellum.core.solving.problem import Locked
from rellum.core.solving.trial_book import TrialBook
from rellum.core.solving.variables import (
    ABSENT,
    OFF,
    ON,
    THERE,
    GroupVariable,
    ModVariable,
    Surroundings,
)
from rellum.core.values.ids import ModId
from rellum.core.versions.version import Key, Version


class Rules:
    """The variables and clauses of the mods that some mods can bring in."""

    def __init__(
        self,
        engine: Engine,
        catalog: Catalog,
        surroundings: Surroundings,
        book: TrialBook,
        *,
        asked: Mapping[ModId, frozenset[Key]] | None = None,
        held: frozenset[tuple[ModId, Version]] = frozenset(),
        kept: Mapping[ModId, Locked] | None = None,
    ) -> None:
        self.engine = engine
        self.catalog = catalog
        self.surroundings = surroundings
        self.book = book
        self.mods: dict[ModId, ModVariable] = {}
        self.groups: dict[tuple[ModId, str, str], GroupVariable] = {}
        self.by_number: dict[int, ModVariable | GroupVariable] = {}
        self._asked = asked or {}
        self._held = held
        self._kept = kept or {}

    # What the search begins with.

    def bring_in(self, mods: Iterable[ModId]) -> None:
        """Make variables of these mods and of all that they can bring in; bind them to the game."""
        waiting = list(mods)
        new: list[ModVariable] = []
        seen = set(self.mods)
        while waiting:
            mod_id = waiting.pop()
            if mod_id in seen:
                continue
            seen.add(mod_id)
            waiting += self.catalog.offered.get(mod_id, ())
            if mod_id in self.catalog.mods:
                variable = self._add_mod(mod_id)
                new.append(variable)
                waiting += _named(variable)
        for variable in new:
            self._bind(variable)
        for trial in self.book.breaking:
            self._forbid(trial)

    def _add_mod(self, mod_id: ModId) -> ModVariable:
        mod = self.catalog.mods[mod_id]
        count = len(mod.releases)
        variable = ModVariable(
            number=self.engine.add_variable(count + 1),
            mod=mod,
            keys=[release.version.key for release in reversed(mod.releases)],
            everything=(2 << count) - 1,
            considered=(2 << count) - 1,
        )
        kept = self._kept.get(mod_id)
        if kept is not None:
            mask = variable.mask_of(r for r in mod.releases if is_locked(r, kept))
            variable.considered = mask
            self.engine.add([(variable.number, ABSENT | mask)], None)
        self.mods[mod_id] = self.by_number[variable.number] = variable
        for group in mod.options:
            self._add_group(variable, group)
        return variable

    def _add_group(self, owner: ModVariable, group: OptionGroup) -> None:
        for choice in group.choices:
            for name in (*choice.expansions_needed, *choice.expansions_forbidden):
                self.surroundings.expansion(name)  # a variable now, so that it can be supposed
        if group.pick == "one":
            preferred = sum(
                1 << at for at, each in enumerate(group.choices, 1) if each.id in group.default
            )
            self._add_choices(owner, group, "", group.choices, preferred)
            return
        for choice in group.choices:
            preferred = ON if choice.id in group.default else OFF
            self._add_choices(owner, group, choice.id, (None, choice), preferred)

    def _add_choices(
        self,
        owner: ModVariable,
        group: OptionGroup,
        name: str,
        choices: tuple[OptionChoice | None, ...],
        preferred: int,
    ) -> None:
        number = self.engine.add_variable(len(choices) + 1)
        variable = GroupVariable(
            number=number, owner=owner, group=group, choices=choices, preferred=preferred
        )
        self.groups[owner.mod.id, group.id, name] = self.by_number[number] = variable

    def groups_of(self, mod: ModId) -> Iterator[GroupVariable]:
        """Yield the option variables of a mod, in the card's order."""
        for group in self.mods[mod].mod.options:
            names = [""] if group.pick == "one" else [each.id for each in group.choices]
            for name in names:
                yield self.groups[mod, group.id, name]

    def _bind(self, variable: ModVariable) -> None:
        """Add what ties the releases of a mod to the game, and which of them are never taken."""
        mod = variable.mod
        by_game: dict[tuple[str, tuple[Trial, ...]], int] = defaultdict(int)
        by_editions: dict[tuple[str, ...], int] = defaultdict(int)
        by_expansion: dict[tuple[str, bool], int] = defaultdict(int)
        withdrawn = prereleases = unfinished = 0
        asked = self._asked.get(mod.id, frozenset())
        for bit, release in variable.considered_releases():
            if release.game is not None:
                by_game[release.game, self.book.working(release)] |= bit
            if release.editions is not None:
                by_editions[release.editions] |= bit
            for name in release.expansions_needed:
                by_expansion[name, True] |= bit
            for name in release.expansions_forbidden:
                by_expansion[name, False] |= bit
            if release.withdrawn and (mod.id, release.version) not in self._held:
                withdrawn |= bit
            if release.open_lines:
                unfinished |= bit
            if release.version.is_prerelease and release.version.release_key not in asked:
                prereleases |= bit
        around = self.surroundings
        for (text, trials), mask in by_game.items():
            allowed = around.game_mask(text, tuple(trial.game for trial in trials))
            if allowed != around.every_game:
                cause: Cause = causes.ForGame(variable, mask, text, trials)
                self._add_unless(variable, mask, (around.game, allowed), cause)
        for editions, mask in by_editions.items():
            literal = (around.edition, around.edition_mask(editions))
            cause = causes.ForEditions(variable, mask, editions)
            self._add_unless(variable, mask, literal, cause)
        for (name, needed), mask in by_expansion.items():
            literal = (around.expansion(name), THERE if needed else ABSENT)
            cause = causes.ForExpansion(variable, mask, name, needed)
            self._add_unless(variable, mask, literal, cause)
        if withdrawn:
            cause = causes.Withdrawn(variable, withdrawn)
            self._add_unless(variable, withdrawn, None, cause)
        if unfinished:
            cause = causes.Unfinished(variable, unfinished)
            self._add_unless(variable, unfinished, None, cause)
        if prereleases:
            cause = causes.Prerelease(variable, prereleases)
            self._add_unless(variable, prereleases, None, cause)

    def _add_unless(
        self, variable: ModVariable, mask: int, literal: Literal | None, cause: Cause
    ) -> None:
        """Add: none of these releases, unless the literal holds."""
        others = (variable.number, variable.everything & ~mask)
        self.add([others, literal] if literal else [others], cause)

    def add(self, literals: list[Literal], cause: Cause) -> None:
        """Add a clause."""
        self.engine.add(literals, cause)

    def _forbid(self, trial: Trial) -> None:
        """Add that what broke together is not chosen together again on that game version."""
        around = self.surroundings
        if trial.game not in around.games:
            return
        literals = [(around.game, around.every_game & ~(1 << around.games.index(trial.game)))]
        for mod_id, text in trial.releases:
            variable = self.mods.get(mod_id)
            if variable is None:
                return  # cannot come in, so nor can the set
            broken = [each for each in variable.mod.releases if each.version.text == text]
            literals.append((variable.number, variable.everything & ~variable.mask_of(broken)))
        self.add(literals, causes.Broke(trial))


def is_locked(release: Release, locked: Locked) -> bool:
    """Whether a release is the one that is locked."""
    return release.version == locked.version and release.build == locked.build


def _named(variable: ModVariable) -> list[ModId]:
    """Return all mods that a mod's releases and options need, in a steady order."""
    mod = variable.mod
    needs = [need for _, release in variable.considered_releases() for need in release.needs]
    needs += [need for group in mod.options for choice in group.choices for need in choice.needs]
    return sorted({each.mod for need in needs for each in need.any_of})
