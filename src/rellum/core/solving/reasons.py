"""Short reasons for a refusal: sets of statements that cannot all hold, none of which can be left out.

What the search came by is long and arbitrary. So the fewest are looked for: each want by itself; conclusions
in the order of how many statements they rest on; what stays impossible without a statement of the best reason
known. Everything is bounded by work, never by the clock, so that the answer is the same on every machine.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Sequence
from typing import Final, NamedTuple

from rellum.core.solving import causes
from rellum.core.solving.causes import Cause
from rellum.core.solving.cheapest import Cheapest
from rellum.core.solving.engine import Clause
from rellum.core.solving.minimal import bits_of, reduce
from rellum.core.solving.prover import Literal, OutOfWork, Prover, Work
from rellum.core.solving.search import NotFound, Searcher

OF_THE_PACK: Final = (causes.Wanted, causes.OptionWanted, causes.Held, causes.Supposed)
SMALL: Final = 6_000
"""Of at most so many clauses all are asked at once; of more, only those about what a reason speaks of."""
READABLE: Final = 20
"""A reason of more statements is not read to its end: then the shortest is best, whatever it says."""
_MOST_KNOWN: Final = 12
"""So many reasons are looked for; then nothing is said of how many there are."""
_CHEAPEST: Final = 2_000_000

Statements = frozenset[int]
"""Statements by their numbers."""


class KnownReason(NamedTuple):
    """Statements that cannot all hold, and whether none of them can be left out."""

    statements: Statements
    is_minimal: bool


class NumberedClauses(NamedTuple):
    """All clauses, each with the number of the statement that it is of, and the statements."""

    clauses: list[tuple[int, list[Literal]]]
    causes: list[Cause]


def numbered(clauses: Iterable[Clause]) -> NumberedClauses:
    """Number the statements of some clauses, in the order in which they come."""
    numbers: dict[int, int] = {}
    found = NumberedClauses([], [])
    for clause in clauses:
        cause = clause.cause
        number = numbers.get(id(cause), -1)
        if number < 0:
            assert isinstance(cause, Cause)
            number = numbers[id(cause)] = len(found.causes)
            found.causes.append(cause)
        found.clauses.append((number, clause.literals))
    return found


class ReasonFinder:
    """Looks for the reasons of one refusal. ``known`` are those found, as they were found."""

    def __init__(self, searcher: Searcher, not_found: NotFound, work: Work) -> None:
        self._sizes = searcher.engine.sizes
        self._work = work
        self._all = numbered((*not_found.supposed, *searcher.engine.given))
        self.causes = self._all.causes
        self.wants = [
            at for at, cause in enumerate(self.causes) if isinstance(cause, causes.Wanted)
        ]
        self.is_small = len(self._all.clauses) <= SMALL
        self.known: list[KnownReason] = []
        self.alone: set[int] = set()
        """Wants that are impossible by themselves."""
        self.is_complete = False
        """Whether all reasons are known."""
        self._of_variable: dict[int, list[tuple[int, int]]] = {}
        numbers = {id(cause): at for at, cause in enumerate(self.causes)}
        self._proof = {numbers[id(clause.cause)] for clause in not_found.clauses}

    def find(self) -> None:
        """Look for reasons until the work is done, or all are known; at least one is found."""
        try:
            drawing = Cheapest(self._all.clauses, Work(_CHEAPEST))
            cheap = drawing.conflict()
            self._of_variable = drawing.of_variable
            self._note(cheap or self._proof)
            if self.is_small:
                self._find_in_small_world()
            else:
                self._improve_nearby()
        except OutOfWork:
            pass
        if not self.known:
            self.known.append(KnownReason(frozenset(cheap or self._proof), False))

    @property
    def best(self) -> KnownReason:
        """The reason to be told: the shortest, and first one that says that a want cannot be had at all."""
        return min(
            self.known,
            key=lambda each: (
                not each.is_minimal,
                len(each.statements) > READABLE or not self._is_of_one_want(each.statements),
                len(each.statements),
                sorted(each.statements),
            ),
        )

    def _is_of_one_want(self, statements: Statements) -> bool:
        return len(statements & self.alone) == len(statements.intersection(self.wants)) == 1

    def _note(self, statements: Iterable[int], work: Work | None = None) -> KnownReason:
        """Reduce statements that cannot all hold, and note what is left. Raises OutOfWork for none."""
        part = sorted(set(statements))
        prover, order = self._prover(part)
        return self._reduced(prover, order, part, (1 << len(part)) - 1, work or self._work)

    def _prover(self, part: Sequence[int]) -> tuple[Prover, list[int]]:
        """Return a prover for some statements, and the order in which they are left out."""
        bits = {statement: bit for bit, statement in enumerate(part)}
        clauses = [(bits[at], literals) for at, literals in self._all.clauses if at in bits]
        return Prover(clauses, self._sizes), left_out_in([self.causes[each] for each in part])

    def _reduced(
        self, prover: Prover, order: Sequence[int], part: Sequence[int], core: int, work: Work
    ) -> KnownReason:
        answer = prover.solve(core, work)
        assert answer.core
        left, is_minimal = reduce(prover, answer.core, order, work)
        found = KnownReason(frozenset(part[bit] for bit in bits_of(left)), is_minimal)
        if all(each.statements != found.statements for each in self.known):
            self.known.append(found)
        return found

    def _improve_nearby(self) -> None:
        """Look for a shorter reason in what is said about the variables of the best one."""
        tried: set[Statements] = set()
        while (
            best := min(self.known, key=lambda each: len(each.statements))
        ).statements not in tried:
            tried.add(best.statements)
            near = self._near(best.statements)
            prover, order = self._prover(near)
            place = {statement: bit for bit, statement in enumerate(near)}
            for statement in sorted(best.statements):
                core = (1 << len(near)) - 1 & ~(1 << place[statement])
                if (answer := prover.solve(core, self._work)).core:
                    self._reduced(prover, order, near, answer.core, self._work)

    def _near(self, statements: Statements) -> list[int]:
        """Return all statements about nothing but what these are about."""
        about = {
            number for at in self._clauses_of(statements) for number, _ in self._all.clauses[at][1]
        }
        near = {
            at
            for number in about
            for _, at in self._of_variable.get(number, ())
            if all(each in about for each, _ in self._all.clauses[at][1])
        }
        return sorted({self._all.clauses[at][0] for at in near} | statements)

    def _clauses_of(self, statements: Statements) -> list[int]:
        return [at for at, (number, _) in enumerate(self._all.clauses) if number in statements]

    def _find_in_small_world(self) -> None:
        """Ask about all clauses at once: each want by itself, then all that stays impossible."""
        part = list(range(len(self.causes)))
        prover, order = self._prover(part)
        everything = (1 << len(part)) - 1
        wants = sum(1 << each for each in self.wants)
        for want in self.wants:
            answer = prover.solve(everything & ~wants | 1 << want, self._work)
            if answer.core:
                self.alone.add(want)
                self._reduced(prover, order, part, answer.core, self._work)
        self._enumerate(prover, order, part)

    def _enumerate(self, prover: Prover, order: Sequence[int], part: Sequence[int]) -> None:
        """Find all reasons: leave out sets that hit all known ones (Reiter, 1987), the smallest first."""
        everything = (1 << len(part)) - 1
        waiting = deque([0])
        seen = {0}
        enough: list[int] = []
        while waiting:
            out = waiting.popleft()
            if any(each & out == each for each in enough):
                continue
            masks = [sum(1 << at for at in each.statements) for each in self.known]
            hit_not = min(
                (mask for mask in masks if not mask & out), key=int.bit_count, default=None
            )
            if hit_not is None:
                answer = prover.solve(everything & ~out, self._work)
                if not answer.core:
                    enough.append(out)
                    continue
                found = self._reduced(prover, order, part, answer.core, self._work)
                hit_not = sum(1 << at for at in found.statements)
                if len(self.known) > _MOST_KNOWN:
                    return
            for bit in bits_of(hit_not):
                if (more := out | 1 << bit) not in seen:
                    seen.add(more)
                    waiting.append(more)
        self.is_complete = all(each.is_minimal for each in self.known)


def reduced(
    clauses: Sequence[Clause], sizes: Sequence[int], work: Work
) -> tuple[tuple[Cause, ...], bool]:
    """Return the statements of a part of some clauses that cannot hold, and whether it is minimal."""
    world = numbered(clauses)
    prover = Prover(world.clauses, sizes)
    order = left_out_in(world.causes)
    core = (1 << len(world.causes)) - 1
    try:
        core = prover.solve(core, work).core
    except OutOfWork:
        return tuple(world.causes), False
    left, is_minimal = reduce(prover, core, order, work)
    return tuple(world.causes[bit] for bit in bits_of(left)), is_minimal


def left_out_in(statements: Sequence[Cause]) -> list[int]:
    """Return in which order statements are left out, by their numbers.

    Those of cards before those of the pack: what wants need makes the longer chain.
    """
    return sorted(
        range(len(statements)), key=lambda at: (isinstance(statements[at], OF_THE_PACK), -at)
    )
