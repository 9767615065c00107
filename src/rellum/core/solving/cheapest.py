"""Conclusions in the order of how many statements they rest on, until two of them contradict each other.

A search comes by a contradiction wherever its decisions lead it; a person wants the one that takes the fewest
words. So facts ("this mod is one of these releases, or absent") are drawn from a heap, the one that rests on
the fewest statements first, and each clause of which all literals but one have become false gives another
(Knuth, "A generalization of Dijkstra's algorithm", 1977). What needs cases to be told apart is not found so.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from heapq import heappop, heappush
from itertools import combinations
from typing import NamedTuple

from rellum.core.solving.clauses import Literal
from rellum.core.solving.prover import OutOfWork, Work

_PAIRED = 10
"""Of so many facts about a variable, the cheapest, pairs are looked at."""
_CONFLICT = -1


class Fact(NamedTuple):
    """That a variable's value lies in a mask, and the statements behind it, as bits."""

    mask: int
    bits: int


def by_variable(
    clauses: Sequence[tuple[int, list[Literal]]],
) -> dict[int, list[tuple[int, int]]]:
    """Return for each variable the clauses that have a literal of it: its mask, and the clause's place."""
    found: dict[int, list[tuple[int, int]]] = defaultdict(list)
    for at, (_, literals) in enumerate(clauses):
        for number, mask in literals:
            if mask:
                found[number].append((mask, at))
    return found


class Cheapest:
    """Draws conclusions from clauses; each belongs to a statement, by its number.

    ``of_variable`` has for each variable the clauses that speak of it, by their places.
    """

    def __init__(self, clauses: Sequence[tuple[int, list[Literal]]], work: Work) -> None:
        self._clauses = clauses
        self._work = work
        # For each variable, the clauses that have a literal of it, with that literal's mask.
        self.of_variable = by_variable(clauses)
        self._facts: dict[int, list[Fact]] = defaultdict(list)
        self._domains: dict[int, int] = {}
        self._heap: list[tuple[int, int, int, Fact]] = []
        self._pushed: dict[tuple[int, int], int] = {}
        self._count = 0
        # Statements get their bits when they have a part in something: few of a world ever do.
        self._bits: dict[int, int] = {}
        self._statements: list[int] = []

    def conflict(self) -> list[int] | None:
        """Return the numbers of statements that cannot all hold; None: nothing was found."""
        for at, (statement, literals) in enumerate(self._clauses):
            can_hold = sum(1 for _, mask in literals if mask)
            if can_hold == 1:
                [(number, mask)] = [each for each in literals if each[1]]
                self._push(number, mask, self._bit(at))
            elif not can_hold:
                return [statement]
        try:
            while self._heap:
                _, _, number, fact = heappop(self._heap)
                if number == _CONFLICT:
                    return [
                        self._statements[at]
                        for at in range(fact.bits.bit_length())
                        if fact.bits >> at & 1
                    ]
                self._take(number, fact)
        except OutOfWork:
            pass
        return None

    def _bit(self, at: int) -> int:
        statement = self._clauses[at][0]
        if statement not in self._bits:
            self._bits[statement] = 1 << len(self._statements)
            self._statements.append(statement)
        return self._bits[statement]

    def _push(self, number: int, mask: int, bits: int) -> None:
        cost = bits.bit_count()
        key = (number, mask)
        if self._pushed.get(key, cost + 1) > cost:
            self._pushed[key] = cost
            self._count += 1
            heappush(self._heap, (cost, self._count, number, Fact(mask, bits)))

    def _take(self, number: int, fact: Fact) -> None:
        """Take a fact that is not said by a cheaper one, and draw what follows."""
        facts = self._facts[number]
        if any(not each.mask & ~fact.mask for each in facts):
            return
        facts.append(fact)
        before = self._domains.get(number, -1)
        domain = before & fact.mask
        if not domain:
            bits = self._why_not(number, -1)
            assert bits is not None
            self._push(_CONFLICT, 0, bits)
            self._facts[number] = facts = [fact]  # from both, anything would follow
            domain = fact.mask
        self._domains[number] = domain
        occurring = self.of_variable[number]
        self._work.spend(len(occurring) // 4 + 1)
        said = fact.mask
        for mask, at in occurring:
            # False only now, or by this fact alone where others were needed before.
            if not domain & mask and (before & mask or not said & mask):
                self._draw(at)

    def _draw(self, at: int) -> None:
        """Draw what a clause says now that a literal of it is false, or false for another reason."""
        domains = self._domains
        literals = self._clauses[at][1]
        possible = _CONFLICT
        for each, mask in literals:
            if domains.get(each, -1) & mask:
                if possible != _CONFLICT:
                    return
                possible = each
        reasons = [self._why_not(each, mask) if each != possible else 0 for each, mask in literals]
        self._work.spend(len(literals))
        own = self._bit(at)
        if possible == _CONFLICT:
            bits = own
            for why in reasons:
                bits |= why or 0
            self._push(_CONFLICT, 0, bits)
        for position, (each, mask) in enumerate(literals):
            if possible in (_CONFLICT, each):
                bits = own
                for other, reason in enumerate(reasons):
                    if other != position:
                        bits |= reason or 0
                self._push(each, mask, bits)

    def _why_not(self, number: int, mask: int) -> int | None:
        """Return the fewest statements known by which no value of a mask is left; None: some are."""
        facts = self._facts[number]
        best: int | None = None
        for each in facts:
            if not each.mask & mask and (best is None or each.bits.bit_count() < best.bit_count()):
                best = each.bits
        if len(facts) > 1:
            for one, two in combinations(facts[:_PAIRED], 2):
                if not one.mask & two.mask & mask:
                    both = one.bits | two.bits
                    if best is None or both.bit_count() < best.bit_count():
                        best = both
        return best if best is not None else self._why_not_by_many(facts, mask)

    def _why_not_by_many(self, facts: list[Fact], mask: int) -> int | None:
        bits = 0
        left = mask
        while left:
            taken = min(
                facts,
                key=lambda each: (_size(left & each.mask), (bits | each.bits).bit_count()),
                default=None,
            )
            if taken is None or left & taken.mask == left:
                return None
            left &= taken.mask
            bits |= taken.bits
        return bits


def _size(mask: int) -> int:
    """Return how many values a mask has; one of all values, whose number is not known, is larger than any."""
    return mask.bit_count() if mask >= 0 else 1 << 30
