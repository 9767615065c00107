"""One search: decisions in the order of the aims, until a line-up or a contradiction is reached."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Protocol

from rellum.core.solving.answer import Found, NotFound, Supposition
from rellum.core.solving.card_clauses import Rules
from rellum.core.solving.clauses import Clause, leaves_of
from rellum.core.solving.engine import Engine
from rellum.core.solving.guide import Guide
from rellum.core.solving.load_order import find_circle
from rellum.core.solving.problem import Locked, Problem
from rellum.core.solving.prover import OutOfWork, Work
from rellum.core.solving.release_clauses import ReleaseClauses
from rellum.core.solving.variables import (
    ABSENT,
    OFF,
    ON,
    Entry,
    GroupVariable,
    ModVariable,
    Surroundings,
)
from rellum.core.values.ids import ModId

_HARD = 120
"""After so many conflicts, a search takes a guide; in a large world after one for so many clauses:"""
_CLAUSES_A_CONFLICT = 300
_GUIDING = 10_000_000
"""What a guide may cost, in looks at clauses, beside as much as the search has cost so far."""


def wished(group: GroupVariable, names: tuple[str, ...]) -> int:
    """Return the values of an option variable that a want with these choices allows."""
    if group.group.pick == "one":
        return group.mask(names)
    choice = group.choices[1]
    return ON if choice is not None and choice.id in names else OFF


class Asked(Protocol):
    """Who answers for a catalog, as one search needs it."""

    engine: Engine
    rules: Rules
    taking: ReleaseClauses
    surroundings: Surroundings
    keeps: bool
    is_quick: bool
    work: Work | None

    def spend(self, amount: int) -> None:
        """Count work that was done. Raises OutOfWork."""


@dataclass(slots=True)
class _Preference:
    """A wish that is decided before the walk, where it can still be had.

    ``kept`` is the release that is to stay, or leave; 0 where the wish is not of that kind.
    """

    number: int
    mask: int
    kept: int = 0

    def is_open(self, domain: int) -> bool:
        """Whether it can be had, and is not so already."""
        return bool(domain & self.mask and domain & ~self.mask)


class Run:
    """One search. Iterative, so that a long chain of needs meets no recursion limit."""

    def __init__(
        self,
        searcher: Asked,
        problem: Problem,
        suppositions: list[Supposition],
        *,
        tells: bool = True,
    ) -> None:
        """``tells``: where nothing is found, what stands against it is told."""
        self.searcher = searcher
        self.tells = tells
        self.engine = searcher.engine
        self.began = self.spent = searcher.engine.steps
        self.taking = searcher.taking
        self.rules = searcher.rules
        self.suppositions = suppositions
        self.preferences = list(self._preferences(problem))
        wanted = [searcher.rules.mods[want.mod] for want in problem.wants]
        # The walk: what has to come in, in order; how far it is; and what came in on the way.
        self.queue: list[Entry] = [((each.number, each.everything & ~ABSENT),) for each in wanted]
        self.optional = {
            searcher.rules.mods[want.mod].number for want in problem.wants if want.optional
        }
        self.at = 0
        self.taken: dict[int, int] = {}
        self.next_wish = 0
        # For each decision: how far wishes and walk were when it was taken.
        self.marks = [(0, 0, len(self.queue), 0)] * searcher.engine.level
        self.decided = [(each.number, each.mask) for each in suppositions[: searcher.engine.level]]
        self.conflicts = searcher.engine.conflicts
        self.guide: Guide | None = None
        self.waiting: Guide | None = None
        """A guide that has more to do than it may."""
        self.guided = 0
        self.one_by_one = False

    def _preferences(self, problem: Problem) -> Iterator[_Preference]:
        rules, around = self.rules, self.searcher.surroundings
        for mod, locked in problem.locked.items():
            yield from self._keep(mod, locked)
        for want in problem.wants:
            if want.optional:
                variable = rules.mods[want.mod]
                yield _Preference(variable.number, variable.everything & ~ABSENT)
        for version in problem.games[:-1]:  # the last is what is left
            yield _Preference(around.game, 1 << around.games.index(version))

    def _keep(self, mod: ModId, locked: Locked) -> Iterator[_Preference]:
        variable = self.rules.mods.get(mod)
        if variable is None:
            return
        mask = self.rules.mask_of_locked(variable, locked)
        if mask:
            yield _Preference(variable.number, ABSENT | mask, mask)
        chosen = dict(locked.options)
        for group in self.rules.groups_of(mod):
            if group.group.id in chosen:
                mask = wished(group, chosen[group.group.id])
                yield _Preference(group.number, ABSENT | mask, mask)

    def run(self) -> Found | NotFound:
        engine = self.engine
        while True:
            conflict = engine.propagate()
            if conflict is not None:
                no_way = engine.learn(conflict)
                if no_way is not None:
                    return self._refuse(no_way)
                self._rewind()
                self._spend()
                if self._is_hard() and (refused := self._ask_guide()):
                    return refused
                continue
            if engine.level < len(self.suppositions):
                supposed = self.suppositions[engine.level]
                if not engine.domains[supposed.number] & supposed.mask:
                    return self._refuse(Clause([(supposed.number, supposed.mask)], supposed.cause))
                self._decide(supposed.number, supposed.mask)
                continue
            if self._grant_many():
                continue
            if not self._grant_wish() and self._walk():
                if self._forbid_circle():
                    continue
                self._spend()
                game = engine.domains[self.searcher.surroundings.game]
                return Found(dict(self.taken), self.searcher.surroundings.games[_lowest(game)])

    def _is_hard(self) -> bool:
        """Whether it has met so many conflicts that a guide is worth its cost, and has none yet.

        Raises OutOfWork where it is to give up then.
        """
        if self.guide is not None or self.searcher.keeps:
            return False
        met = self.engine.conflicts - self.conflicts
        hard = max(_HARD, self.engine.given_count // _CLAUSES_A_CONFLICT)
        if self.searcher.is_quick and met >= hard:
            raise OutOfWork
        return met >= hard and self._left_for_guide() >= _GUIDING // 2

    def _ask_guide(self) -> NotFound | None:
        """Take a guide, and begin again with it; or return what it says stands against everything."""
        engine = self.engine
        guide = self.waiting or Guide(engine.given(), engine.sizes)
        self.waiting = guide
        supposed = [(each.number, each.mask) for each in self.suppositions]
        with self._guiding() as work:
            against = guide.refused(supposed, work)
            if against is not None:
                return NotFound(self._supposed(), against, engine.steps - self.began)
            self.guide = guide
            engine.go_back(min(engine.level, len(self.suppositions)))
            self._rewind()
        return None

    def _left_for_guide(self) -> int:
        left = _GUIDING + self.engine.steps - self.began - self.guided
        work = self.searcher.work
        return left if work is None else min(left, work.left)

    @contextmanager
    def _guiding(self) -> Iterator[Work]:
        """Give what a guide may do; where that does not suffice, the search goes on by itself meanwhile."""
        left = self._left_for_guide()
        work = Work(left)
        try:
            yield work
        except OutOfWork:
            self.guide = None
        finally:
            self.guided += left - max(0, work.left)
            self.searcher.spend(left - max(0, work.left))

    def _is_allowed(self, number: int, mask: int) -> bool:
        """Whether a decision can end in a line-up; else the engine learns that it cannot."""
        if self.guide is None or self.engine.level < len(self.suppositions):
            return True
        lesson = None
        with self._guiding() as work:
            lesson = self.guide.lesson(self.decided, (number, mask), work)
        if lesson is None:
            return True
        self.engine.teach(*lesson)
        return False

    def _spend(self) -> None:
        """Count the work that was done since this was asked last. Raises OutOfWork."""
        spent, self.spent = self.engine.steps - self.spent, self.engine.steps
        self.searcher.spend(spent)

    def _forbid_circle(self) -> bool:
        """Rule out hints about the load order that run in a circle among what was found, if any do."""
        found = {
            variable.id: variable.release(value)
            for number, value in self.taken.items()
            if isinstance(variable := self.rules.by_number[number], ModVariable)
        }
        circle = find_circle(found)
        if circle:
            self.engine.go_back(0)
            self._rewind()
            self.taking.forbid_circle(circle)
            self.guide = self.waiting = None  # it does not know of the circle
            self.conflicts = self.engine.conflicts
        return bool(circle)

    def _refuse(self, conflict: Clause) -> NotFound:
        leaves = leaves_of(self.engine.trace(conflict)) if self.tells else ()
        return NotFound(self._supposed(), tuple(leaves), self.engine.steps - self.began)

    def _supposed(self) -> tuple[Clause, ...]:
        # All that is supposed, and not only what the search came by: what others want may make the
        # way to the contradiction shorter.
        return tuple(Clause([(each.number, each.mask)], each.cause) for each in self.suppositions)

    def _decide(self, number: int, mask: int) -> None:
        self._mark()
        self.decided.append((number, mask))
        self.engine.decide((number, mask))

    def _mark(self) -> None:
        self.marks.append((self.next_wish, self.at, len(self.queue), len(self.taken)))

    def _rewind(self) -> None:
        """Take wishes and walk back to where the engine went back to."""
        level = self.engine.level
        if level < len(self.marks):
            self.next_wish, self.at, queued, taken = self.marks[level]
            del self.marks[level:]
            del self.decided[level:]
            del self.queue[queued:]
            while len(self.taken) > taken:
                self.taken.popitem()

    def _grant_many(self) -> bool:
        """Grant the next wishes that are all to stay as they are, in one step; False: it is no use.

        Where they go together, to grant them one after another comes to the same. Where they do not, or where
        a conflict that is met later goes back to before such a step, all are granted one by one.
        """
        engine, level = self.engine, self.engine.level
        if self.one_by_one or self.guide is not None or self.conflicts != engine.conflicts:
            return False
        wishes = list(self._staying())
        if len(wishes) < 2:
            return False
        self._mark()
        self.decided.append((wishes[0].number, wishes[0].mask))  # undone before a guide would ask
        engine.decide(*((each.number, each.mask) for each in wishes))
        if engine.propagate() is not None:
            engine.go_back(level)
            self._rewind()
            self.one_by_one = True
        return True

    def _staying(self) -> Iterator[_Preference]:
        """Yield the open wishes up to the first whose release cannot stay: it may have to leave."""
        seen: set[int] = set()
        for at in range(self.next_wish, len(self.preferences)):
            wish = self.preferences[at]
            domain = self.engine.domains[wish.number]
            if wish.is_open(domain):
                if not domain & wish.kept or wish.number in seen:
                    return
                seen.add(wish.number)
                yield wish

    def _grant_wish(self) -> bool:
        """Decide for the next wish that can be had and is not so already; False: none is left."""
        domains = self.engine.domains
        while self.next_wish < len(self.preferences):
            wish = self.preferences[self.next_wish]
            if wish.is_open(domains[wish.number]):
                if self._is_allowed(wish.number, wish.mask):
                    self._decide(wish.number, wish.mask)
                return True
            self.next_wish += 1
        return False

    def _walk(self) -> bool:
        """Go on to the next decision and take it; True: there is none left, all is in."""
        domains, queue, taken = self.engine.domains, self.queue, self.taken
        while self.at < len(queue):
            entry = queue[self.at]
            number, mask = entry[0]
            # Most are met by the first that they name; that is asked ten times for each mod.
            if (number in taken and domains[number] & mask) or self._is_met(entry):
                self.at += 1
                continue
            number, value_mask = self._first_possible(entry)
            if number < 0:
                assert entry[0][0] in self.optional  # a want that cannot be had
                self.at += 1
                continue
            if domains[number] != value_mask:
                if self._is_allowed(number, value_mask):
                    self._decide(number, value_mask)
                return False
            value = _lowest(value_mask)
            self.taken[number] = value
            self.at += 1
            queue += self.taking.entries_of(number, value)
        return True

    def _is_met(self, entry: Entry) -> bool:
        """Whether something that came in meets an entry."""
        domains = self.engine.domains
        return any(number in self.taken and domains[number] & mask for number, mask in entry)

    def _first_possible(self, entry: Entry) -> tuple[int, int]:
        """Return the first of an entry's values that is still possible, as a variable and a mask."""
        for number, mask in entry:
            possible = self.engine.domains[number] & mask & ~ABSENT
            if possible:
                return number, possible & -possible
        return -1, 0


def _lowest(mask: int) -> int:
    """Return the lowest value of a mask."""
    return (mask & -mask).bit_length() - 1
