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
from rellum.core.solving.bits import bits_of
from rellum.core.solving.causes import Cause
from rellum.core.solving.cheapest import Cheapest, by_variable
from rellum.core.solving.clauses import Clause
from rellum.core.solving.minimal import reduce
from rellum.core.solving.numbering import numbered
from rellum.core.solving.prover import OutOfWork, Prover, Work
from rellum.core.solving.search import NotFound, Searcher
from rellum.core.solving.smallest import find_smallest
from rellum.core.values.ids import ModId

OF_THE_PACK: Final = (causes.Wanted, causes.OptionWanted, causes.Held, causes.Supposed)
SMALL: Final = 6_000
"""Of at most so many clauses all are asked at once; of more, only those about what a reason speaks of."""
_LARGE: Final = 150_000
"""With more clauses, a short proof is enough to begin with: to draw all conclusions takes too long."""
READABLE: Final = 20
"""A reason of more statements is not read to its end: then the shortest is best, whatever it says."""
_MOST_KNOWN: Final = 12
"""So many reasons are looked for; then nothing is said of how many there are."""
_MOST_PROVEN: Final = 60
"""Of longer reasons the shortest is not looked for: it takes minutes, and nobody reads them."""
_CHEAPEST: Final = 2_000_000

Statements = frozenset[int]
"""Statements by their numbers."""


class KnownReason(NamedTuple):
    """Statements that cannot all hold, and whether none of them can be left out."""

    statements: Statements
    is_minimal: bool


class ReasonFinder:
    """Looks for the reasons of one refusal among some clauses. ``known`` are those found, in that order."""

    def __init__(
        self, sizes: Sequence[int], not_found: NotFound, given: Iterable[Clause], work: Work
    ) -> None:
        """``sizes`` are the engine's; the proof's leaves are among the clauses."""
        self._sizes = sizes
        self._work = work
        self._all = numbered((*not_found.supposed, *given))
        self.causes = self._all.causes
        self.known: list[KnownReason] = []
        self.is_complete = False
        """Whether all reasons are known."""
        self.least: int | None = None
        """How many statements the smallest reason has, where that is proven."""
        self._of_variable: dict[int, list[tuple[int, int]]] = {}
        numbers = {id(cause): at for at, cause in enumerate(self.causes)}
        self._proof = {numbers[id(clause.cause)] for clause in not_found.clauses}
        # What the pack asks for of each mod: the statements of its want and of the want's options.
        self._asked: dict[ModId, Statements] = {}
        for at, cause in enumerate(self.causes):
            if isinstance(cause, (causes.Wanted, causes.OptionWanted)):
                mod = cause.want.mod
                self._asked[mod] = self._asked.get(mod, frozenset()) | {at}

    def find(self) -> None:
        """Look for reasons until the work is done, or all are known; at least one is found."""
        drawing = Cheapest(self._all.clauses, Work(_CHEAPEST))
        self._of_variable = drawing.of_variable
        first = sorted(drawing.conflict() or self._proof)
        try:
            self._reduced(*self._prover(first), first, (1 << len(first)) - 1)
            if len(self._all.clauses) <= SMALL:
                self._find_in_small_world()
            else:
                self._improve_nearby()
        except OutOfWork:
            pass
        if not self.known:
            self.known.append(KnownReason(frozenset(first), False))

    def find_from_proof(self) -> bool:
        """Look for reasons in the search's own proof and near what is found; whether one can be read."""
        self._of_variable = by_variable(self._all.clauses)
        proof = sorted(self._proof)
        try:
            self._reduced(*self._prover(proof), proof, (1 << len(proof)) - 1)
            self._improve_nearby()
        except OutOfWork:
            pass
        return any(each.is_minimal and len(each.statements) <= READABLE for each in self.known)

    @property
    def best(self) -> KnownReason:
        """The reason to be told: the shortest, and first one that says that a want cannot be had at all."""
        return min(
            self.known,
            key=lambda each: (
                not each.is_minimal,
                len(each.statements) > READABLE or len(self._mods_asked(each.statements)) != 1,
                len(each.statements),
                sorted(each.statements),
            ),
        )

    @property
    def alone(self) -> list[ModId]:
        """The wanted mods that are known to be impossible without the other wants, in the pack's order."""
        single = {
            mods[0] for each in self.known if len(mods := self._mods_asked(each.statements)) == 1
        }
        return [mod for mod in self._asked if mod in single]

    def _mods_asked(self, statements: Statements) -> list[ModId]:
        """Return the mods of which some statements ask for something."""
        return [mod for mod, asked in self._asked.items() if asked & statements]

    def _without_other_wants(self, mod: ModId) -> Statements:
        """Return what the pack asks for of all other mods."""
        return frozenset().union(*(asked for each, asked in self._asked.items() if each != mod))

    def _prover(self, part: Sequence[int]) -> tuple[Prover, list[int]]:
        """Return a prover for some statements, and the order in which they are left out."""
        bits = {statement: bit for bit, statement in enumerate(part)}
        clauses = [(bits[at], literals) for at, literals in self._all.clauses if at in bits]
        return Prover(clauses, self._sizes), left_out_in([self.causes[each] for each in part])

    def _reduced(
        self, prover: Prover, order: Sequence[int], part: Sequence[int], core: int
    ) -> KnownReason:
        """Note what is left of a core when all is left out that can be. Raises OutOfWork."""
        answer = prover.solve(core, self._work)
        assert answer.core
        left, is_minimal = reduce(prover, answer.core, order, self._work)
        found = KnownReason(frozenset(part[bit] for bit in bits_of(left)), is_minimal)
        if all(each.statements != found.statements for each in self.known):
            self.known.append(found)
        return found

    def _improve_nearby(self) -> None:
        """Look for a shorter reason, or one of a single want, in what is said about the same variables."""
        tried: set[Statements] = set()
        while True:
            best = min((each.statements for each in self.known), key=len)
            if best in tried:
                return
            tried.add(best)
            near = self._near(best)
            prover, order = self._prover(near)
            place = {statement: bit for bit, statement in enumerate(near)}
            mods = self._mods_asked(best)
            others = [self._without_other_wants(mod) for mod in mods] if len(mods) > 1 else []
            for left_out in (*others, *(frozenset({each}) for each in sorted(best))):
                core = sum(1 << bit for each, bit in place.items() if each not in left_out)
                if (answer := prover.solve(core, self._work)).core:
                    self._reduced(prover, order, near, answer.core)

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
        for mod in self._asked:
            others = _bits(self._without_other_wants(mod))
            answer = prover.solve(self._all.everything & ~others, self._work)
            if answer.core:
                self._reduced(prover, order, part, answer.core)
        self._enumerate(prover, order, part)
        if not self.is_complete:
            self._find_smallest(prover)

    def _find_smallest(self, prover: Prover) -> None:
        """Look for the smallest reason of all, beyond those that were enumerated."""
        shortest = min(self.known, key=lambda each: len(each.statements))
        if len(shortest.statements) > _MOST_PROVEN:
            return
        found, is_least = find_smallest(
            prover, self._all.everything, _bits(shortest.statements), self._work
        )
        if is_least:
            self.least = found.bit_count()
        if found.bit_count() < len(shortest.statements):
            self.known.append(KnownReason(frozenset(bits_of(found)), is_minimal=True))

    def _enumerate(self, prover: Prover, order: Sequence[int], part: Sequence[int]) -> None:
        """Find all reasons: leave out sets that hit all known ones (Reiter, 1987), the smallest first."""
        masks = [_bits(each.statements) for each in self.known]
        waiting = deque([0])
        seen = {0}
        enough: list[int] = []
        while waiting:
            out = waiting.popleft()
            if any(each & out == each for each in enough):
                continue
            hit_not = min(
                (mask for mask in masks if not mask & out), key=int.bit_count, default=None
            )
            if hit_not is None:
                answer = prover.solve(self._all.everything & ~out, self._work)
                if not answer.core:
                    enough.append(out)
                    continue
                if len(self.known) == _MOST_KNOWN:
                    return
                hit_not = _bits(self._reduced(prover, order, part, answer.core).statements)
                masks.append(hit_not)
            self._work.spend(hit_not.bit_count())  # so many more sets wait
            for bit in bits_of(hit_not):
                if (more := out | 1 << bit) not in seen:
                    seen.add(more)
                    waiting.append(more)
        self.is_complete = all(each.is_minimal for each in self.known)


def find_reasons(searcher: Searcher, not_found: NotFound, work: Work) -> ReasonFinder:
    """Look for the reasons of a refusal; in a large catalog only near a short proof, if that is enough."""
    engine, leaves = searcher.engine, not_found.leaves
    if engine.given_count > _LARGE and len(leaves) <= 10 * READABLE:
        about = {number for clause in leaves for number, _ in clause.literals}
        finder = ReasonFinder(engine.sizes, not_found, engine.within(about), work)
        if finder.find_from_proof():
            return finder
    finder = ReasonFinder(engine.sizes, not_found, engine.given(), work)
    finder.find()
    return finder


def _bits(statements: Statements) -> int:
    return sum(1 << at for at in statements)


def reduced(
    clauses: Sequence[Clause], sizes: Sequence[int], work: Work
) -> tuple[tuple[Cause, ...], bool]:
    """Return the statements of a part of some clauses that cannot hold, and whether it is minimal."""
    world = numbered(clauses)
    prover = Prover(world.clauses, sizes)
    order = left_out_in(world.causes)
    try:
        core = prover.solve(world.everything, work).core
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
