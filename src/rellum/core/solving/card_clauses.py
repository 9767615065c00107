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

from rellum.core.catalog.card_store import terms_of
from rellum.core.catalog.model import Catalog, OptionChoice, OptionGroup, Trial
from rellum.core.catalog.terms import (
    NO_TERMS,
    Interned,
    ModTerms,
    PlainNeed,
    interned_needs,
    narrowed,
)
from rellum.core.solving import causes
from rellum.core.solving.causes import Cause
from rellum.core.solving.clauses import Literal, Pair
from rellum.core.solving.engine import Engine
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
        tells: bool = True,
    ) -> None:
        """Make the rules; nothing is brought in yet.

        ``tells``: clauses have causes, from which reasons are made.
        """
        self.engine = engine
        self.catalog = catalog
        self.book_of_terms = terms_of(catalog)
        self.surroundings = surroundings
        self.book = book
        self.mods: dict[ModId, ModVariable] = {}
        self.groups: dict[tuple[ModId, str, str], GroupVariable] = {}
        self.by_number: dict[int, ModVariable | GroupVariable] = {}
        self._asked = asked or {}
        self._held = held
        self._kept = kept or {}
        self._locked: dict[ModId, tuple[Locked, int]] = {}
        self._interned = Interned()
        self.tells = tells

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
                needs = interned_needs(variable.terms, variable.considered, self._interned)
                variable.terms = narrowed(variable.terms, needs, variable.considered)
                new.append(variable)
                waiting += named_by(variable)
        for variable in new:
            self._bind(variable)
        self._forbid_what_broke()

    def _add_mod(self, mod_id: ModId) -> ModVariable:
        terms = self.book_of_terms.terms(mod_id)
        variable = self._add_variable(mod_id, terms.count)
        self._take_terms(variable, terms)
        return variable

    def _add_variable(self, mod_id: ModId, count: int) -> ModVariable:
        """Make a mod's variable, of which nothing but how many releases it has is known yet."""
        everything = (2 << count) - 1
        variable = ModVariable(
            number=self.engine.add_variable(count + 1),
            id=mod_id,
            terms=NO_TERMS,
            everything=everything,
            considered=everything,
            catalog=self.catalog,
            book=self.book_of_terms,
        )
        kept = self._kept.get(mod_id)
        if kept is not None:
            mask = variable.mask_of_version(kept.version, kept.build)
            variable.considered = mask
            self.engine.add([(variable.number, ABSENT | mask)], None)
        self.mods[mod_id] = self.by_number[variable.number] = variable
        return variable

    def _take_terms(self, variable: ModVariable, terms: ModTerms) -> None:
        variable.terms = terms
        for group in terms.options:
            self._add_group(variable, group)

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
        self.groups[owner.id, group.id, name] = self.by_number[number] = variable

    def groups_of(self, mod: ModId) -> Iterator[GroupVariable]:
        """Yield the option variables of a mod, in the card's order."""
        for group in self.mods[mod].terms.options:
            names = [""] if group.pick == "one" else [each.id for each in group.choices]
            for name in names:
                yield self.groups[mod, group.id, name]

    def _bind(self, variable: ModVariable) -> None:
        """Add what ties the releases of a mod to the game, and which of them are never taken."""
        terms, around, looked_at = variable.terms, self.surroundings, variable.considered
        for mask, text, trials in self.games_of(variable, looked_at):
            allowed = around.game_mask(text, tuple(trial.game for trial in trials))
            if allowed != around.every_game:
                cause: Cause = causes.ForGame(variable, mask, text, trials)
                self._add_unless(variable, mask, (around.game, allowed), cause)
        for said in terms.editions:
            if mask := said.mask & looked_at:
                literal = (around.edition, around.edition_mask(said.editions))
                cause = causes.ForEditions(variable, mask, said.editions)
                self._add_unless(variable, mask, literal, cause)
        for each in terms.expansions:
            if mask := each.mask & looked_at:
                literal = (around.expansion(each.expansion), THERE if each.is_needed else ABSENT)
                cause = causes.ForExpansion(variable, mask, each.expansion, each.is_needed)
                self._add_unless(variable, mask, literal, cause)
        if mask := terms.withdrawn & looked_at & ~self.held_of(variable):
            self._add_unless(variable, mask, None, causes.Withdrawn(variable, mask))
        if mask := terms.unfinished & looked_at:
            self._add_unless(variable, mask, None, causes.Unfinished(variable, mask))
        if mask := terms.prereleases & looked_at & ~self.asked_of(variable):
            self._add_unless(variable, mask, None, causes.Prerelease(variable, mask))

    def games_of(
        self, variable: ModVariable, looked_at: int
    ) -> Iterator[tuple[int, str, tuple[Trial, ...]]]:
        """Yield the ranges of game versions that releases are for, and the trials that widen them."""
        for mask, text in variable.terms.games:
            if not mask & looked_at:
                continue
            if not self.book.speaks_of(variable.id):
                yield mask & looked_at, text, ()
                continue
            by_trials: dict[tuple[Trial, ...], int] = defaultdict(int)
            for release in variable.releases(mask & looked_at):
                by_trials[self.book.working(release)] |= variable.mask_of([release])
            yield from ((own, text, trials) for trials, own in by_trials.items())

    def left_out_by(self, variable: ModVariable, mask: int) -> Iterator[Cause]:
        """Yield why a release was left out for good; nothing is where the game is not fixed."""
        yield from ()

    def mask_of_locked(self, variable: ModVariable, locked: Locked) -> int:
        """Return the releases that a lock means; what is asked again for each search is looked up once."""
        known = self._locked.get(variable.id)
        if known is not None and known[0] is locked:
            return known[1]
        mask = variable.mask_of_version(locked.version, locked.build)
        self._locked[variable.id] = locked, mask
        return mask

    def held_of(self, variable: ModVariable) -> int:
        """Return the releases of a mod that the pack holds."""
        held = (version for mod, version in self._held if mod == variable.id)
        return sum({variable.mask_of_version(version) for version in held})

    def asked_of(self, variable: ModVariable) -> int:
        """Return the pre-releases of a mod that the pack asks for."""
        asked = self._asked.get(variable.id)
        if not asked:
            return 0
        versions = variable.book.versions(variable.id)
        return sum(1 << at for at, each in enumerate(versions, 1) if each.release_key in asked)

    def _add_unless(
        self, variable: ModVariable, mask: int, literal: Literal | None, cause: Cause
    ) -> None:
        """Add: none of these releases, unless the literal holds."""
        others = (variable.number, variable.everything & ~mask)
        self.add([others, literal] if literal else [others], cause)

    def cause_of(self, pair: Pair) -> Cause | None:
        """Return what a plain need says that was added as a pair; None where it is not told."""
        number, others, _, _, term = pair
        if not isinstance(term, PlainNeed):
            return None
        variable = self.by_number[number]
        assert isinstance(variable, ModVariable)
        return causes.Needs(variable, variable.everything & ~others, term.need, None, None)

    def add(self, literals: list[Literal], cause: Cause) -> None:
        """Add a clause."""
        self.engine.add(literals, cause)

    def _forbid_what_broke(self) -> None:
        for trial in self.book.breaking:
            self._forbid(trial)

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
            texts = variable.book.names(mod_id).texts
            broken = sum(1 << at for at, each in enumerate(texts, 1) if each == text)
            literals.append((variable.number, variable.everything & ~broken))
        self.add(literals, causes.Broke(trial))


def named_by(variable: ModVariable) -> list[ModId]:
    """Return all mods that a mod's releases and options need, in a steady order."""
    terms = variable.terms
    needs = [each.need for each in terms.needs]
    needs += [need for group in terms.options for choice in group.choices for need in choice.needs]
    named = {each.mod for each in terms.plain_needs}
    named.update(each.mod for need in needs for each in need.any_of)
    return sorted(named)
