"""What taking one release would do, as far as it follows from the clauses without a search.

In a line-up of thousands nearly every newer release is ruled out at once by what the pack asks for, or can
be exchanged and nothing else changes. Both are seen from the clauses of that one mod; the search is asked
about the rest alone.
"""

from __future__ import annotations

from collections import ChainMap, defaultdict
from collections.abc import Mapping, Sequence
from functools import partial
from itertools import chain

from rellum.core.catalog.model import Release
from rellum.core.solving.clauses import Clause, leaves_of
from rellum.core.solving.engine import Engine, Narrowing
from rellum.core.solving.load_order import find_circle
from rellum.core.solving.problem import Problem
from rellum.core.solving.refusal import Reason, against
from rellum.core.solving.search import Found, Searcher
from rellum.core.solving.solve import chosen_releases
from rellum.core.solving.variables import ABSENT, Entry, ModVariable
from rellum.core.values.ids import ModId


class AtOnce:
    """Answers for a line-up that stands, where that is a line-up for what is asked."""

    def __init__(self, searcher: Searcher, problem: Problem, now: Mapping[ModId, Release]) -> None:
        self.searcher, self._problem, self._now = searcher, problem, now
        self._suppositions = tuple(searcher.suppose(problem)) if self._has_cards() else ()
        self._can_refuse = True
        self._narrowings: dict[int, list[Narrowing]] = {}
        self._seen = (-1, -1)
        """How long the trail was, and how many conflicts there had been, when it was looked through."""
        self._asked: dict[int, list[Clause]] = defaultdict(list)
        for each in self._suppositions:
            clause = Clause([(each.number, each.mask)], each.cause)
            self._asked[each.number].append(clause)
        self._values: list[int] = []
        """The mask of the value that each variable has; none where exchanges are not looked at."""
        self._longer: dict[int, list[Clause]] = defaultdict(list)
        self._chosen: tuple[int, ...] = ()
        self._entries: dict[int, tuple[Entry, ...]] = {}
        self._domains: list[int] = []
        chosen = self._standing_values()
        if chosen is not None:
            self._remember(chosen)
        self._is_seen = not self._values
        """Whether it is known that what stands comes in as the search would walk."""
        if not self._values:
            self._search()

    def _search(self) -> None:
        """Find the line-up by a search; where that is the one that stands, exchanges are looked at."""
        self._values, self._chosen, self._is_seen = [], (), True
        self._longer.clear()
        found = self.searcher.search(self._problem, tells=False)
        self._can_refuse = isinstance(found, Found)
        if isinstance(found, Found) and chosen_releases(self.searcher, found) == self._now:
            self._remember(found.values)
            self._entries = self._all_entries()

    def _standing_values(self) -> dict[int, int] | None:
        """Return the value of each mod of the line-up that stands; None where some are not to stay, or have
        options.
        """
        if not self._has_cards():
            return None
        rules, locked = self.searcher.rules, self._problem.locked
        values: dict[int, int] = {}
        for mod in self._now:
            variable, kept = rules.mods.get(mod), locked.get(mod)
            if variable is None or kept is None or variable.terms.options:
                return None
            mask = rules.mask_of_locked(variable, kept)
            if not mask or mask & (mask - 1):
                return None
            values[variable.number] = mask.bit_length() - 1
        return values

    def _sees_exchanges(self) -> bool:
        """Whether what stands is what a search would give, so that exchanges in it can be looked at.

        It is where all of it is to stay, meets all clauses, and comes in as the search would walk. Else that
        takes a search.
        """
        if not self._is_seen:
            self._is_seen = True
            if not self._is_what_stands() or self._walk(self._entries) != self._entries.keys():
                self._search()
        return bool(self._values)

    def _is_what_stands(self) -> bool:
        """Whether the releases that stand are those to stay, and have a load order."""
        mods, values = self.searcher.rules.mods, self._values
        for mod, release in self._now.items():
            if values[mods[mod].number] != mods[mod].mask_of([release]):
                return False
        self._entries = self._all_entries()
        return not find_circle(self._now)

    def _has_cards(self) -> bool:
        return all(want.mod in self.searcher.rules.mods for want in self._problem.wants)

    def _remember(self, chosen: Mapping[int, int]) -> None:
        """Note the line-up's values, unless what is left open besides could change with a release."""
        engine = self.searcher.engine
        if not self._stand():
            return
        values = [ABSENT] * len(engine.domains)
        for number, value in chosen.items():
            values[number] = 1 << value
        around = self.searcher.surroundings
        for number in (around.game, around.edition, *around.expansions.values()):
            if engine.domains[number] & (engine.domains[number] - 1):
                return
            values[number] = engine.domains[number]
        left_out = (want.mod for want in self._problem.wants if want.mod not in self._now)
        if any(engine.domains[self.searcher.rules.mods[mod].number] != ABSENT for mod in left_out):
            return
        if not all(values[each.number] & each.mask for each in self._suppositions):
            return
        if not _all_met(engine, values):
            return
        for clause in engine.longer():
            for number, _ in clause.literals:
                self._longer[number].append(clause)
        self._chosen = tuple(chosen)
        self._values, self._domains = values, list(engine.domains)

    def _all_entries(self) -> dict[int, tuple[Entry, ...]]:
        return {number: self._entries_of(number) for number in self._chosen}

    def _entries_of(self, number: int) -> tuple[Entry, ...]:
        """Return what must come in with the value that a variable has."""
        rules, values = self.searcher.rules, self._values
        needs = self.searcher.taking.needs_of(number, values[number].bit_length() - 1)
        variable = rules.by_number[number]
        if not isinstance(variable, ModVariable):
            return needs
        groups = rules.groups_of(variable.id)
        return (*needs, *(each.entry for each in groups if values[each.number] != ABSENT))

    def _stand(self) -> bool:
        """Let the engine stand where all that is asked is supposed, and nothing more."""
        return self._can_refuse and self.searcher.stand(self._suppositions)

    def refusal(self, release: Release) -> Reason | None:
        """Return what rules a release out at once; None: that takes a search."""
        if not self._stand():
            return None
        engine = self.searcher.engine
        variable = self.searcher.rules.mods[release.mod]
        mask = variable.mask_of([release])
        if not variable.considered & mask:
            found = tuple(self.searcher.rules.left_out_by(variable, mask))
            asked = against(self._asked.get(variable.number, ()), variable, mask).causes
            return Reason((*found, *asked), is_minimal=False)
        if not engine.domains[variable.number] & mask:
            return against(self._ruled_out_by(variable, mask), variable, mask)
        level = engine.level
        engine.decide((variable.number, mask))
        conflict = engine.propagate()
        clauses = leaves_of(engine.trace(conflict)) if conflict is not None else ()
        engine.go_back(level)
        return against(clauses, variable, mask) if conflict is not None else None

    def _ruled_out_by(self, variable: ModVariable, mask: int) -> list[Clause]:
        """Return what the last step against a release follows from, and what the pack asks of its mod."""
        engine = self.searcher.engine
        seen = engine.trail_length, engine.conflicts
        if self._seen != seen:
            self._seen = seen
            self._narrowings = engine.narrowings()
        last = next(
            each for each in reversed(self._narrowings[variable.number]) if each.before & mask
        )
        proof = [] if last.reason is None else leaves_of([last.reason])
        return [*proof, *self._asked.get(variable.number, ())]

    def leaving(self, release: Release) -> tuple[ModId, ...] | None:
        """Return the mods that leave where a release is taken and nothing else changes.

        None: whether that can be takes a search. The release is one that ``refusal`` does not rule out.
        """
        variable = self.searcher.rules.mods[release.mod]
        if variable.terms.options or not self._sees_exchanges():
            return None  # its options are chosen anew with a release
        number, before = variable.number, self._values[variable.number]
        self._values[number] = variable.mask_of([release])
        try:
            if not self._fits(number):
                return None
            taken = self._walk(ChainMap({number: self._entries_of(number)}, self._entries))
        finally:
            self._values[number] = before
        if taken is None or number not in taken:
            return None
        left = [mod for mod in self._now if self.searcher.rules.mods[mod].number not in taken]
        after = {mod: each for mod, each in self._now.items() if mod not in left}
        return None if find_circle({**after, release.mod: release}) else tuple(left)

    def _fits(self, number: int) -> bool:
        """Whether the values meet all clauses about a variable."""
        values = self._values
        pairs = chain(*self.searcher.engine.pairs_of(number))
        return all(
            values[one] & mask or values[two] & other for one, mask, two, other, _ in pairs
        ) and all(map(partial(_is_met, values), self._longer[number]))

    def _walk(self, entries: Mapping[int, tuple[Entry, ...]]) -> set[int] | None:
        """Return what comes in as the search would walk.

        None where a mod that is not there might come in: whether it can is not known here.
        """
        mods = self.searcher.rules.mods
        taken: set[int] = set()
        wants = [mods[want.mod].number for want in self._problem.wants if want.mod in self._now]
        queue: list[Entry] = [((number, ~ABSENT),) for number in wants]
        for entry in queue:
            number = self._first(entry, taken)
            if number is None:
                return None
            if number not in taken:
                taken.add(number)
                queue += entries[number]
        return taken

    def _first(self, entry: Entry, taken: set[int]) -> int | None:
        """Return which of an entry's variables meets it: one that is in already, else the first."""
        values = self._values
        for number, mask in entry:
            if number in taken and values[number] & mask:
                return number
        for number, mask in entry:
            if values[number] & mask:
                return number
            if values[number] == ABSENT and self._domains[number] & mask:
                return None
        return None


def _all_met(engine: Engine, values: Sequence[int]) -> bool:
    """Whether the values that variables have, a mask each, meet all clauses that were given."""
    return all(
        values[one] & mask or values[two] & other
        for number in range(len(values))
        for one, mask, two, other, _ in engine.pairs_of(number)[0]
    ) and all(map(partial(_is_met, values), engine.longer()))


def _is_met(values: Sequence[int], clause: Clause) -> bool:
    return any(values[number] & mask for number, mask in clause.literals)
