"""The clauses of a release or an option: its needs, clashes, variants and options.

The clauses of a mod are made when one of its releases may be chosen, each once; releases that say the
same share one.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator

from rellum.core.catalog.model import Clash, MadeFor, Need, Requirement
from rellum.core.catalog.terms import ClashTerm, NeedTerm, PlainNeed, VariantTerm
from rellum.core.solving import causes
from rellum.core.solving.card_clauses import Rules
from rellum.core.solving.causes import Cause
from rellum.core.solving.clauses import Literal
from rellum.core.solving.load_order import Hint
from rellum.core.solving.variables import ABSENT, THERE, Entry, GroupVariable, ModVariable
from rellum.core.values.ids import ModId

Term = PlainNeed | NeedTerm | ClashTerm | VariantTerm


class ReleaseClauses:
    """Makes the clauses of releases and options, and tells what must come in with them."""

    def __init__(self, rules: Rules) -> None:
        self.rules = rules
        self._offered = rules.catalog.offered
        self._waiting: dict[int, list[Term]] = {}
        """By variable, the terms of releases that could not be chosen so far."""
        self._with_stand_ins: dict[Requirement, Entry] = {}
        self._circles: set[frozenset[Hint]] = set()
        self._needs: dict[tuple[int, int], tuple[Entry, ...]] = {}

    def add_all(self) -> None:
        """Make the clauses of every release that may be chosen as things stand, on level 0."""
        domains = list(self.rules.engine.domains)
        self.rules.engine.go_back(0)
        for variable in self.rules.mods.values():
            domain = domains[variable.number] & ~ABSENT
            waiting = self._waiting.get(variable.number)
            if waiting is None:
                terms = variable.terms
                waiting = [*terms.plain_needs, *terms.needs, *terms.clashes, *terms.variants]
                for group in self.rules.groups_of(variable.id):
                    self._add_group(group)
            self._waiting[variable.number] = [each for each in waiting if not each.mask & domain]
            for each in waiting:
                if each.mask & domain:
                    self._add(variable, each)

    def forbid_circle(self, circle: Collection[Hint]) -> None:
        """Add that not all mods of a circle are there with releases that give its hints.

        It holds for all releases that say the same, and not only for those in which it was found.
        """
        if frozenset(circle) in self._circles:
            return
        self._circles.add(frozenset(circle))
        mods = self.rules.mods
        told: list[causes.LoadsAfter] = []
        masks: dict[ModId, int] = {}
        for hint in circle:
            masks.setdefault(hint.later, mods[hint.later].everything & ~ABSENT)
            masks.setdefault(hint.earlier, mods[hint.earlier].everything & ~ABSENT)
        for hint in circle:
            variable = mods[hint.said_by]
            other = hint.earlier if hint.by_later else hint.later
            mask = _mask_of_hint(variable, other, hint.by_later)
            masks[hint.said_by] &= mask
            told.append(causes.LoadsAfter(variable, mask, other, hint.by_later))
        literals = [(mods[mod].number, mods[mod].everything & ~mask) for mod, mask in masks.items()]
        self.rules.add(literals, causes.LoadsInCircle(tuple(told)))

    def entries_of(self, number: int, value: int) -> tuple[Entry, ...]:
        """Return what must come in with a value of a variable, in the card's order."""
        needs = self.needs_of(number, value)
        variable = self.rules.by_number[number]
        if not isinstance(variable, ModVariable) or not variable.terms.options:
            return needs
        domains = self.rules.engine.domains
        groups = self.rules.groups_of(variable.id)
        return (*needs, *(each.entry for each in groups if not domains[each.number] & ABSENT))

    def needs_of(self, number: int, value: int) -> tuple[Entry, ...]:
        """Return what a value of a variable needs, in the card's order."""
        found = self._needs.get((number, value))
        if found is None:
            variable = self.rules.by_number[number]
            if isinstance(variable, GroupVariable):
                choice = variable.choices[value - 1]
                found = tuple(self._any_of(need) for need in (choice.needs if choice else ()))
            else:
                found = tuple(self._needs_of_release(variable, value))
            self._needs[number, value] = found
        return found

    def _needs_of_release(self, variable: ModVariable, value: int) -> Iterator[Entry]:
        """Yield what a release needs, in the card's order."""
        terms, mods = variable.terms, self.rules.mods
        known: dict[tuple[Requirement, ...], tuple[int, ...]] = {
            (Requirement(each.mod, each.range),): (each.meets,)
            for each in terms.plain_needs
            if each.mask >> value & 1
        }
        known.update(
            (each.need.any_of, each.meets) for each in terms.needs if each.mask >> value & 1
        )
        pairs, _ = self.rules.engine.pairs_of(variable.number)
        added = {other: meets for _, mask, other, meets, _ in pairs if not mask >> value & 1}
        for need in variable.release(value).needs:
            meets = known.get(need.any_of)
            if meets is None:
                number = mods[need.any_of[0].mod].number
                yield ((number, added[number]),)
            else:
                yield self._any_of(need, meets)

    def _any_of(self, need: Need, meets: tuple[int, ...] | None = None) -> Entry:
        """Return the literals that meet a need, one is enough: the mods named, then what stands in.

        ``meets``: the releases of each mod named that do, where they are known.
        """
        if meets is None:
            meets = tuple(map(self._meeting, need.any_of))
        if len(meets) == 1:
            return self._of(need.any_of[0], meets[0])
        merged: dict[int, int] = {}
        for each, its in zip(need.any_of, meets, strict=True):
            for number, mask in self._of(each, its):
                merged[number] = merged.get(number, 0) | mask
        return tuple(merged.items())

    def _meeting(self, requirement: Requirement) -> int:
        """Return the releases that a requirement means."""
        variable = self.rules.mods.get(requirement.mod)
        return variable.mask(self.rules.catalog.range_of(requirement)) if variable else 0

    def _of(self, requirement: Requirement, meets: int) -> Entry:
        if requirement.mod in self.rules.catalog.offered:
            found = self._with_stand_ins.get(requirement)
            if found is None:
                found = tuple(self._make_literals(requirement, meets))
                self._with_stand_ins[requirement] = found
            return found
        variable = self.rules.mods.get(requirement.mod)
        return ((variable.number, meets),) if variable is not None else ()

    def _make_literals(self, requirement: Requirement, meets: int) -> Iterator[Literal]:
        rules = self.rules
        range_ = rules.catalog.range_of(requirement)
        variable = rules.mods.get(requirement.mod)
        if variable is not None:
            yield variable.number, meets
        for other_id in rules.catalog.offered.get(requirement.mod, ()):
            other = rules.mods.get(other_id)
            if other is not None and other is not variable:
                standing_in = [
                    release
                    for release in other.mod.releases
                    if any(o.mod == requirement.mod and o.version in range_ for o in release.offers)
                ]
                yield other.number, other.mask_of(standing_in)

    def _add(self, variable: ModVariable, term: Term) -> None:
        """Add: none of these releases, or what they say."""
        if isinstance(term, PlainNeed) and self._add_plain(variable, term):
            return
        mask = term.mask & variable.considered
        others = variable.everything & ~mask
        if isinstance(term, PlainNeed | NeedTerm):
            need = term.need
            literals = self._any_of(need, _each_meets(term))
            why = causes.Needs(variable, mask, need, None, self._there(need, literals))
            self._add_unless(variable.number, others, literals, why)
        elif isinstance(term, ClashTerm):
            for number, left, stand_in in self._left_by(term.clash, term.hits, variable):
                clashes = causes.Clashes(variable, mask, term.clash, None, stand_in)
                self._add_unless(variable.number, others, ((number, left),), clashes)
        else:
            other = self.rules.mods.get(term.made_for.mod)
            if other is not None and other is not variable:
                literals = self._variants(term.made_for, other)
                made_for = causes.ForVariant(variable, mask, term.made_for)
                self._add_unless(variable.number, others, literals, made_for)

    def _add_plain(self, variable: ModVariable, term: PlainNeed) -> bool:
        """Add a need that something can meet, and in whose place nothing stands. False: it is no such."""
        rules = self.rules
        other = rules.mods.get(term.mod)
        if other is None or other is variable or not term.meets or term.mod in self._offered:
            return False
        others = variable.everything & ~term.mask
        origin = term if rules.tells else None
        rules.engine.add_pair(variable.number, others, other.number, term.meets, origin)
        return True

    def _there(self, need: Need, literals: Entry) -> tuple[str, ...] | None:
        """Return the versions that there are, where none of them meets a need."""
        for _, mask in literals:
            if mask:
                return None
        mod = self.rules.catalog.mods.get(need.any_of[0].mod)
        return tuple(each.label for each in mod.releases) if mod else ()

    def _add_unless(self, number: int, others: int, literals: Entry, cause: Cause) -> None:
        """Add a clause: the variable has another value, or one of the literals holds."""
        if number in dict(literals):
            own = dict(literals)[number] | others
            kept = [each for each in literals if each[0] != number]
            self.rules.add([(number, own), *kept], cause)
        else:
            self.rules.add([(number, others), *literals], cause)

    def _variants(self, made: MadeFor, other: ModVariable) -> Entry:
        """A release goes on some builds or options of a mod, or where that mod is not there."""
        builds = [each for each in other.mod.releases if each.build and each.build in made.variants]
        literals = [(other.number, ABSENT | other.mask_of(builds))]
        for group in self.rules.groups_of(made.mod):
            prefix = f"{group.group.id}."
            names = [v.removeprefix(prefix) for v in made.variants if v.startswith(prefix)]
            if mask := group.mask(names):
                literals.append((group.number, mask))
        return tuple(literals)

    def _add_group(self, group: GroupVariable) -> None:
        """Tie an option group to the releases of its mod, and add what its choices say."""
        owner, add, catalog = group.owner, self.rules.add, self.rules.catalog
        applies = 0
        for value, choice in enumerate(group.choices, 1):
            if choice is None:
                continue
            mask = owner.mask(catalog.range_of(Requirement(owner.id, choice.releases)))
            applies |= mask
            others = group.everything & ~(1 << value)
            cause = causes.OptionFor(owner.mod, group.group, choice)
            add([(group.number, others), (owner.number, mask)], cause)
            self._add_choice(group, value, others)
        present = group.everything & ~ABSENT
        cause = causes.OptionFor(owner.mod, group.group, None)
        add([(owner.number, owner.everything & ~applies), (group.number, present)], cause)
        add([(owner.number, applies), (group.number, ABSENT)], cause)

    def _add_choice(self, group: GroupVariable, value: int, others: int) -> None:
        choice, owner = group.choices[value - 1], group.owner
        assert choice is not None
        everyone = owner.everything & ~ABSENT
        if choice.game is not None:
            around = self.rules.surroundings
            literals: Entry = ((around.game, around.game_mask(choice.game)),)
            game = causes.ForGame(owner, everyone, choice.game, (), choice)
            self._add_unless(group.number, others, literals, game)
        expansions = [(name, True) for name in choice.expansions_needed]
        expansions += [(name, False) for name in choice.expansions_forbidden]
        for name, needed in expansions:
            there = ((self.rules.surroundings.expansion(name), THERE if needed else ABSENT),)
            why_not = causes.ForExpansion(owner, everyone, name, needed, choice)
            self._add_unless(group.number, others, there, why_not)
        for need in choice.needs:
            literals = self._any_of(need)
            cause = causes.Needs(owner, everyone, need, choice, self._there(need, literals))
            self._add_unless(group.number, others, literals, cause)
        for clash in choice.clashes:
            for number, left, stand_in in self._left_by(clash, self._meeting(clash.other), owner):
                why = causes.Clashes(owner, everyone, clash, choice, stand_in)
                self._add_unless(group.number, others, ((number, left),), why)

    def _left_by(
        self, clash: Clash, hits: int, owner: ModVariable
    ) -> Iterator[tuple[int, int, ModId | None]]:
        """Yield what a clash leaves: of the mod named, and of those that stand in for it (their ids)."""
        for number, hit in self._of(clash.other, hits):
            other = self.rules.by_number[number]
            assert isinstance(other, ModVariable)
            is_named = other.id == clash.other.mod
            if other is not owner and hit and (is_named or not clash.spares_stand_ins):
                yield number, other.everything & ~hit, None if is_named else other.id


def _each_meets(term: PlainNeed | NeedTerm) -> tuple[int, ...]:
    """Return which releases of each mod that a need names meet it."""
    return (term.meets,) if isinstance(term, PlainNeed) else term.meets


def _mask_of_hint(variable: ModVariable, other: ModId, is_after: bool) -> int:
    """Return the releases of a mod that give a hint about the load order."""
    said = (each.mask for each in variable.terms.load if each[1:] == (other, is_after))
    return next(said, 0)
