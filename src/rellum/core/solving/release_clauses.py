"""The clauses of a release or an option: its needs, clashes, variants and options.

The clauses of a mod are made when one of its releases may be chosen, each once; releases that say the
same share one.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

from rellum.core.catalog.model import Clash, MadeFor, Need, OptionChoice, Release, Requirement
from rellum.core.solving import causes
from rellum.core.solving.card_clauses import Rules
from rellum.core.solving.causes import Cause
from rellum.core.solving.engine import Literal
from rellum.core.solving.load_order import Hint
from rellum.core.solving.variables import ABSENT, THERE, Entry, GroupVariable, ModVariable
from rellum.core.values.ids import ModId


@dataclass(slots=True)
class _Shared:
    """A statement, the values of a mod that make it, and whether it is a clause already."""

    mask: int
    said: Need | Clash | MadeFor
    is_added: bool = False


class ReleaseClauses:
    """Makes the clauses of releases and options, and tells what must come in with them."""

    def __init__(self, rules: Rules) -> None:
        self.rules = rules
        self._shared: dict[int, list[_Shared]] = {}
        self._literals: dict[Requirement, Entry] = {}
        self._circles: set[frozenset[Hint]] = set()
        self._needs: dict[tuple[int, int], tuple[Entry, ...]] = {}

    def add_all(self) -> None:
        """Make the clauses of every release that may be chosen as things stand, on level 0."""
        domains = list(self.rules.engine.domains)
        self.rules.engine.go_back(0)
        for variable in self.rules.mods.values():
            domain = domains[variable.number] & ~ABSENT
            shared = self._shared.get(variable.number)
            if shared is None:
                shared = self._shared[variable.number] = _share(variable)
                for group in self.rules.groups_of(variable.mod.id):
                    self._add_group(group)
            for each in shared:
                if each.mask & domain and not each.is_added:
                    each.is_added = True
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
            mask = variable.mask_of(each for each in variable.mod.releases if hint.is_said_in(each))
            masks[hint.said_by] &= mask
            other = hint.earlier if hint.by_later else hint.later
            told.append(causes.LoadsAfter(variable, mask, other, hint.by_later))
        literals = [(mods[mod].number, mods[mod].everything & ~mask) for mod, mask in masks.items()]
        self.rules.add(literals, causes.LoadsInCircle(tuple(told)))

    def entries_of(self, number: int, value: int) -> Iterator[Entry]:
        """Yield what must come in with a value of a variable, in the card's order."""
        yield from self.needs_of(number, value)
        variable = self.rules.by_number[number]
        if isinstance(variable, ModVariable):
            for group in self.rules.groups_of(variable.mod.id):
                if not self.rules.engine.domains[group.number] & ABSENT:
                    yield group.entry

    def needs_of(self, number: int, value: int) -> tuple[Entry, ...]:
        """Return what a value of a variable needs, in the card's order."""
        found = self._needs.get((number, value))
        if found is None:
            variable = self.rules.by_number[number]
            said: Release | OptionChoice | None
            if isinstance(variable, GroupVariable):
                said = variable.choices[value - 1]
            else:
                said = variable.mod.releases[value - 1]
            found = tuple(self._any_of(need) for need in (said.needs if said else ()))
            self._needs[number, value] = found
        return found

    def _any_of(self, need: Need) -> Entry:
        """Return the literals that meet a need, one is enough: the mods named, then what stands in."""
        if len(need.any_of) == 1:
            return self._of(need.any_of[0])
        merged: dict[int, int] = {}
        for each in need.any_of:
            for number, mask in self._of(each):
                merged[number] = merged.get(number, 0) | mask
        return tuple(merged.items())

    def _of(self, requirement: Requirement) -> Entry:
        found = self._literals.get(requirement)
        if found is None:
            found = self._literals[requirement] = tuple(self._make_literals(requirement))
        return found

    def _make_literals(self, requirement: Requirement) -> Iterator[Literal]:
        rules = self.rules
        range_ = rules.catalog.range_of(requirement)
        variable = rules.mods.get(requirement.mod)
        if variable is not None:
            yield variable.number, variable.mask(range_)
        for other_id in rules.catalog.offered.get(requirement.mod, ()):
            other = rules.mods.get(other_id)
            if other is not None and other is not variable:
                standing_in = [
                    release
                    for release in other.mod.releases
                    if any(o.mod == requirement.mod and o.version in range_ for o in release.offers)
                ]
                yield other.number, other.mask_of(standing_in)

    def _add(self, variable: ModVariable, shared: _Shared) -> None:
        """Add: none of these releases, or what they say."""
        said = shared.said
        cause: Cause
        if isinstance(said, Need):
            literals = self._any_of(said)
            cause = causes.Needs(variable, shared.mask, said, None, self._there(said, literals))
        elif isinstance(said, Clash):
            for number, left, stand_in in self._left_by(said, variable):
                why = causes.Clashes(variable, shared.mask, said, None, stand_in)
                others = variable.everything & ~shared.mask
                self._add_unless(variable.number, others, ((number, left),), why)
            return
        else:
            other = self.rules.mods.get(said.mod)
            if other is None or other is variable:
                return
            literals = self._variants(said, other)
            cause = causes.ForVariant(variable, shared.mask, said)
        self._add_unless(variable.number, variable.everything & ~shared.mask, literals, cause)

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
            mask = owner.mask(catalog.range_of(Requirement(owner.mod.id, choice.releases)))
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
            for number, left, stand_in in self._left_by(clash, owner):
                why = causes.Clashes(owner, everyone, clash, choice, stand_in)
                self._add_unless(group.number, others, ((number, left),), why)

    def _left_by(self, clash: Clash, owner: ModVariable) -> Iterator[tuple[int, int, ModId | None]]:
        """Yield what a clash leaves: of the mod named, and of those that stand in for it (their ids)."""
        for number, hit in self._of(clash.other):
            other = self.rules.by_number[number]
            assert isinstance(other, ModVariable)
            is_named = other.mod.id == clash.other.mod
            if other is not owner and hit and (is_named or not clash.spares_stand_ins):
                yield number, other.everything & ~hit, None if is_named else other.mod.id


def _share(variable: ModVariable) -> list[_Shared]:
    """Return the statements of a mod's releases, each with all releases that make it."""
    found: dict[object, _Shared] = {}

    def share(key: object, said: Need | Clash | MadeFor, bit: int) -> None:
        shared = found.get(key)
        if shared is None:
            found[key] = _Shared(bit, said)
        else:
            shared.mask |= bit

    for bit, release in variable.considered_releases():
        for need in release.needs:
            share(need.any_of, need, bit)
        for clash in release.clashes:
            share(clash, clash, bit)
        for made_for in release.made_for:
            share(made_for, made_for, bit)
    return list(found.values())
