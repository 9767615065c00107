"""A small engine that answers many questions about the same clauses: which of them cannot hold together?

Unlike the search, which must find the best line-up and so decides in a fixed order, it decides where there
were conflicts lately (Moskewicz and others, "Chaff", 2001), tries the value that a variable had before, goes
back as far as a lesson allows, and begins anew now and then (Luby and others, 1993). Each statement has a
bit, and each lesson the bits of those that it follows from: a lesson counts only while all of these do. So
what is learned stays from one question to the next, without a variable for each statement.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from heapq import heappop, heappush

from rellum.core.solving.bits import bits_of
from rellum.core.solving.clauses import Literal, watch_another

_DECAY = 1.0 / 0.93
_RESTART = 40
_SORTED = 5
"""After so many conflicts the variables are put in order again."""
_TOO_LARGE = 1e100


class OutOfWork(Exception):
    """The work that was allowed is done, and there is no answer yet."""


class Work:
    """How much may still be done, in looks at clauses: the same on every machine, unlike seconds."""

    __slots__ = ("left",)

    def __init__(self, left: int) -> None:
        self.left = left

    def spend(self, amount: int) -> None:
        """Take some of it. Raises OutOfWork."""
        self.left -= amount
        if self.left < 0:
            raise OutOfWork

    @contextmanager
    def part(self, of: int) -> Iterator[Work]:
        """Give a part of what is left; what is not spent of it stays."""
        own = Work(max(0, self.left) // of)
        before = own.left
        try:
            yield own
        finally:
            self.left -= before - max(0, own.left)


@dataclass(slots=True, eq=False)
class _Clause:
    """An "or" over literals, of which the first two are watched.

    ``number`` is that of its statement's bit, -1 where it was learned; ``learned_from`` are the bits of the
    statements it follows from then. A bit is a number as long as there are statements: made when asked for.
    """

    literals: list[Literal]
    number: int
    learned_from: int = 0

    @property
    def bits(self) -> int:
        """The bits of the statements that it follows from."""
        return self.learned_from if self.number < 0 else 1 << self.number


@dataclass(slots=True)
class _Change:
    """What narrowed a variable: its domain before, the clause (None: a decision), where on the trail."""

    before: int
    reason: _Clause | None
    at: int


@dataclass(frozen=True, slots=True)
class Answer:
    """Of some clauses: the bits of those that cannot hold together; or, where all can, a model.

    ``model`` has the value (as a mask) of each variable; it is empty where there is none. ``failed`` are the
    places of those assumptions that cannot hold with the core.
    """

    core: int
    model: dict[int, int] = field(default_factory=dict)
    failed: tuple[int, ...] = ()

    @property
    def is_possible(self) -> bool:
        """Whether all can hold."""
        return bool(self.model) or not (self.core or self.failed)


class Prover:
    """Clauses over variables with a few values each, with the number of the bit of each.

    ``sizes`` are how many values, by the variable's number. Clauses of one statement share its bit.
    """

    def __init__(self, clauses: Iterable[tuple[int, list[Literal]]], sizes: Sequence[int]) -> None:
        self.given = [(bit, tuple(literals)) for bit, literals in clauses]
        self._full = {v: (1 << sizes[v]) - 1 for _, each in self.given for v, _ in each}
        self._watching: dict[int, list[tuple[int, _Clause]]] = {v: [] for v in self._full}
        # Those of two literals, by each of their variables: its mask, and the other one's number and mask.
        self._pairs: dict[int, list[tuple[int, int, int, _Clause]]] = {v: [] for v in self._full}
        self._short: list[_Clause] = []  # of one literal that can hold, or none
        self._activity = dict.fromkeys(self._full, 0.0)
        self._bump = 1.0
        self._saved: dict[int, int] = {}
        self._order: list[int] = []
        self._next = 0
        most = -1
        for bit, literals in self.given:
            self._attach(_Clause([each for each in literals if each[1]], bit))
            most = max(most, bit)
        self._everything = (1 << most + 1) - 1
        self._off = 0
        self._numbers_off: frozenset[int] = frozenset()
        self._clear()

    def _clear(self) -> None:
        self.domains = dict(self._full)
        self._changes: dict[int, list[_Change]] = {v: [] for v in self._full}
        self._sort()
        self._trail: list[int] = []
        self._levels: list[int] = []
        self._head = 0

    def _attach(self, clause: _Clause) -> None:
        if len(clause.literals) < 2:
            self._short.append(clause)
            return
        if len(clause.literals) == 2:
            (one, mask), (two, other) = clause.literals
            self._pairs[one].append((mask, two, other, clause))
            self._pairs[two].append((other, one, mask, clause))
            return
        for number, mask in clause.literals[:2]:
            self._watching[number].append((mask, clause))

    def solve(self, on: int, work: Work, assumed: Sequence[Literal] = ()) -> Answer:
        """Say whether the clauses whose bits are ``on`` can hold together, with some assumptions.

        Raises OutOfWork.
        """
        self._clear()
        self._off = self._everything & ~on
        self._numbers_off = frozenset(bits_of(self._off))
        for clause in self._short:
            if self._is_off(clause):
                continue
            if not clause.literals:
                return Answer(clause.bits)
            number, mask = clause.literals[0]
            left = self.domains[number] & mask
            if not left:
                return Answer(clause.bits | self._behind([(number, mask)]))
            self._narrow(number, left, clause)
        conflicts, limit, rounds = 0, _RESTART, 1
        while True:
            conflict = self._propagate(work)
            if conflict is not None:
                if not self._levels:
                    return Answer(conflict.bits | self._behind(conflict.literals))
                conflicts += 1
                self._learn(conflict)
                if conflicts % _SORTED == 0:
                    self._sort()
                continue
            if conflicts >= limit:
                rounds += 1
                conflicts, limit = 0, _RESTART * _luby(rounds)
                self._go_back(0)
                self._sort()
                continue
            if len(self._levels) < len(assumed):
                number, mask = assumed[len(self._levels)]
                possible = self.domains[number] & mask
                if not possible:
                    bits, failed = self._rests_on([(number, mask)], assumed)
                    return Answer(bits, failed=(*failed, len(self._levels)))
                self._levels.append(len(self._trail))
                self._narrow(number, possible, None)
                continue
            number = self._next_variable()
            if number < 0:
                return Answer(0, dict(self.domains))
            domain = self.domains[number]
            wished = self._saved.get(number, 0) & domain
            self._levels.append(len(self._trail))
            self._narrow(number, wished or domain & -domain, None)

    def _next_variable(self) -> int:
        """Return a variable that had a part in many of the latest conflicts; -1: all are decided.

        The order is made anew after some conflicts: to look through all variables each time costs more.
        """
        domains, order = self.domains, self._order
        for place in range(self._next, len(order)):
            domain = domains[order[place]]
            if domain & (domain - 1):
                self._next = place
                return order[place]
        return -1

    def _sort(self) -> None:
        activity = self._activity
        self._order = sorted(self._full, key=lambda number: -activity[number])
        self._next = 0

    def _narrow(self, number: int, domain: int, reason: _Clause | None) -> None:
        before = self.domains[number]
        if before != domain:
            self._changes[number].append(_Change(before, reason, len(self._trail)))
            self._trail.append(number)
            self.domains[number] = domain

    def _is_off(self, clause: _Clause) -> bool:
        """Whether a clause does not count in the question that is asked."""
        if not self._off:
            return False
        if clause.number < 0:
            return bool(clause.learned_from & self._off)
        return clause.number in self._numbers_off

    def _propagate(self, work: Work) -> _Clause | None:
        domains, off = self.domains, self._off
        while self._head < len(self._trail):
            variable = self._trail[self._head]
            self._head += 1
            domain = domains[variable]
            pairs, watching = self._pairs[variable], self._watching[variable]
            work.spend((len(pairs) + len(watching)) // 4 + 1)
            for other, other_mask, clause in [
                each[1:] for each in pairs if not domain & each[0] and domains[each[1]] & ~each[2]
            ]:
                if (off and self._is_off(clause)) or not domains[other] & ~other_mask:
                    continue
                if not domains[other] & other_mask:
                    return clause
                self._narrow(other, domains[other] & other_mask, clause)
            for mask, clause in [each for each in watching if not domain & each[0]]:
                if off and self._is_off(clause):
                    continue
                literals = clause.literals
                if literals[0] == (variable, mask):
                    literals[0], literals[1] = literals[1], literals[0]
                other, other_mask = literals[0]
                possible = domains[other]
                if not possible & ~other_mask or watch_another(
                    clause, mask, domains, self._watching
                ):
                    continue
                if not possible & other_mask:
                    return clause
                self._narrow(other, possible & other_mask, clause)
        return None

    def _go_back(self, level: int) -> None:
        if level >= len(self._levels):
            return
        start = self._levels[level]
        for number in reversed(self._trail[start:]):
            domain = self.domains[number]
            if not domain & (domain - 1):
                self._saved[number] = domain
            self.domains[number] = self._changes[number].pop().before
        del self._trail[start:]
        del self._levels[level:]
        self._head = start
        self._next = 0

    def _false_since(self, number: int, mask: int) -> _Change | None:
        """Return the change that made a literal false; None: it never could hold."""
        for change in reversed(self._changes[number]):
            if change.before & mask:
                return change
        return None

    def _learn(self, conflict: _Clause) -> None:
        """Learn from a false clause, back to the first unique implication point, and go on from there."""
        start = self._levels[-1]
        literals = dict(conflict.literals)
        bits = conflict.bits
        late: dict[int, int] = {}  # what became false on this level, and where
        queue: list[tuple[int, int]] = []  # the same, the last first

        def look(number: int) -> None:
            change = self._false_since(number, literals[number])
            if change is not None and change.at >= start:
                late[number] = change.at
                heappush(queue, (-change.at, number))

        for number in literals:
            self._activity[number] += self._bump
            look(number)
        while True:
            at, number = heappop(queue)
            if late.get(number) != -at:
                continue  # it has grown since, or was resolved
            if len(late) == 1:
                break
            del late[number]
            reason = self._changes_reason(number, -at)
            bits |= reason.bits
            for each, mask in reason.literals:
                self._activity[each] += self._bump
                if each == number:
                    literals[number] &= mask
                    if not literals[number]:
                        del literals[number]
                        continue
                else:
                    literals[each] = literals.get(each, 0) | mask
                look(each)
        self._bump *= _DECAY
        if self._bump > _TOO_LARGE:
            self._activity = {v: a / _TOO_LARGE for v, a in self._activity.items()}
            self._bump /= _TOO_LARGE
        self._assert(number, literals, bits)

    def _changes_reason(self, number: int, at: int) -> _Clause:
        reason = next(each.reason for each in reversed(self._changes[number]) if each.at == at)
        assert reason is not None  # a decision is the first of its level
        return reason

    def _assert(self, number: int, literals: dict[int, int], bits: int) -> None:
        """Go back to where the lesson says something new, and say it."""
        own = literals.pop(number)
        places = [(each, mask, self._false_since(each, mask)) for each, mask in literals.items()]
        rest = sorted(
            ((change.at if change else -1, each, mask) for each, mask, change in places),
            reverse=True,
        )
        level = sum(start <= rest[0][0] for start in self._levels) if rest else 0
        lesson = _Clause([(number, own), *((each, mask) for _, each, mask in rest)], -1, bits)
        self._go_back(level)
        self._attach(lesson)
        self._narrow(number, self.domains[number] & own, lesson)

    def _behind(self, literals: Iterable[Literal]) -> int:
        """Return the bits of all that made these literals false, where no decision did."""
        return self._rests_on(literals)[0]

    def _rests_on(
        self, literals: Iterable[Literal], assumed: Sequence[Literal] = ()
    ) -> tuple[int, list[int]]:
        """Return the bits of all that made these literals false, and the places of assumptions in that.

        No other decision may stand.
        """
        bits = 0
        places: set[int] = set()
        waiting: list[tuple[int, int, int]] = []
        wanted: dict[int, int] = {}

        def look(number: int, mask: int) -> None:
            wanted[number] = wanted.get(number, 0) | mask
            change = self._false_since(number, wanted[number])
            if change is not None:
                heappush(waiting, (-change.at, number, wanted[number]))

        for number, mask in literals:
            look(number, mask)
        while waiting:
            at, number, mask = heappop(waiting)
            if wanted.get(number, 0) != mask:
                continue
            change = self._false_since(number, mask)
            if change is None or -change.at != at:
                continue
            wanted[number] = 0
            if change.reason is None:
                place = bisect_right(self._levels, change.at) - 1
                places.add(place)
                look(number, mask & assumed[place][1])  # what it allows was ruled out before
                continue
            bits |= change.reason.bits
            for each, allowed in change.reason.literals:
                look(each, mask & allowed if each == number else allowed)
        return bits, sorted(places)


def _luby(number: int) -> int:
    """Return a member of Luby's sequence: 1, 1, 2, 1, 1, 2, 4, …"""
    size = 1
    while size < number + 1:
        size *= 2
    while size - 1 != number:
        size //= 2
        if number >= size:
            number -= size - 1
    return size // 2
