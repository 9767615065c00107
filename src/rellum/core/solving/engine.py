"""The engine of the search: variables with a few values each, clauses, and learning from conflicts.

It does not know mods. A variable has up to some dozens of values; what is still possible for it is
a bit mask, its domain. When all literals of a clause but one have become false, the last one must hold, and
narrows its variable's domain: that is propagation. Clauses of two literals are by far the most: they are
kept as plain pairs, found from both of their variables, until one has to say why something was narrowed.

When a clause has become false altogether, ``learn`` resolves it with the clauses that made it so,
back to the first point where the latest decision that has a part in it would alone have given it away
(the first unique implication point). The clause learned there is kept for good, and the search goes
back by that decision, over all that were taken since. This is conflict-driven clause learning
(Marques-Silva and Sakallah, "GRASP", 1999; two watched literals from Moskewicz and others, "Chaff",
2001), with finite domains in place of truth values. Learned clauses follow from the clauses given, so
no solution is ever lost.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Callable, Collection, Iterator
from typing import NamedTuple

from rellum.core.solving.clauses import Clause, Literal, Pair, Resolvent, watch_another

_DOMAINS_KEPT = 16
"""For so many domains of a variable it is kept which of its pairs are false."""


class Narrowing(NamedTuple):
    """A variable's domain before it was narrowed, and by which clause (None: a decision)."""

    before: int
    reason: Clause | None


class Engine:
    """Domains, clauses and the trail of what happened to the domains, decision by decision.

    ``domains`` and ``sizes`` (how many values each variable has) are changed only here.
    ``contradiction`` is a clause that can never hold, given or found, if there is one; ``conflicts`` counts
    conflicts, ``steps`` looks at clauses.
    """

    def __init__(self, cause_of: Callable[[Pair], object] = lambda pair: pair[4]) -> None:
        """``cause_of`` says what a pair stands for."""
        self.domains: list[int] = []
        self.sizes: list[int] = []
        self.conflicts = 0
        self.steps = 0
        self.contradiction: Clause | None = None
        self._cause_of = cause_of
        self._given: list[Clause | Pair] = []
        # For each variable, the pairs whose first literal is about it, and those whose second one is.
        self._first_in: list[list[Pair]] = []
        self._second_in: list[list[Pair]] = []
        # For each variable, the values that are in the first literals of all its pairs.
        self._in_all_first: list[int] = []
        # For each variable, by its domain: its pairs that have one false literal then. Searches that meet
        # conflicts come by the same domains again and again.
        self._pairs_by_domain: list[dict[int, tuple[list[Pair], list[Pair]]]] = []
        self._has_new_pairs = False
        # The clauses that were made of pairs, by the identity of the pair.
        self._made: dict[int, Clause] = {}
        # For each variable, the other clauses that watch a literal of it, with that literal's mask.
        self._watching: list[list[tuple[int, Clause]]] = []
        # What narrowed a domain: the variable, its domain before, and the clause (None: a decision).
        self._trail: list[tuple[int, int, Clause | Pair | None]] = []
        self._level_starts: list[int] = []
        # The variables whose narrowing has still to be followed, and for each whether it is among them.
        self._changed: deque[int] = deque()
        self._waits: list[bool] = []
        # Clauses that were applied later than they could have been, with the level of that.
        self._late: list[tuple[int, Clause]] = []

    @property
    def level(self) -> int:
        """How many decisions stand."""
        return len(self._level_starts)

    def add_variable(self, values: int) -> int:
        """Make a variable with so many values and return its number."""
        self.domains.append((1 << values) - 1)
        self.sizes.append(values)
        self._first_in.append([])
        self._second_in.append([])
        self._in_all_first.append(-1)
        self._pairs_by_domain.append({})
        self._watching.append([])
        self._waits.append(False)
        return len(self.domains) - 1

    def add_pair(
        self, number: int, mask: int, other: int, other_mask: int, origin: object | None
    ) -> None:
        """Add a clause of two literals, before any decision. ``origin``: from what its cause can be told."""
        pair = (number, mask, other, other_mask, origin)
        self._given.append(pair)
        self._first_in[number].append(pair)
        self._second_in[other].append(pair)
        self._in_all_first[number] &= mask
        self._has_new_pairs = True
        domain, other_domain = self.domains[number], self.domains[other]
        if not domain & mask or not other_domain & other_mask:
            if other_domain & other_mask:
                self._narrow(other, other_domain & other_mask, self._clause_of(pair))
            elif domain & mask:
                self._narrow(number, domain & mask, self._clause_of(pair))
            else:
                self.contradiction = self.contradiction or self._clause_of(pair)

    def _clause_of(self, pair: Pair | Clause) -> Clause:
        """Return a pair as a clause, always the same one."""
        if isinstance(pair, Clause):
            return pair
        clause = self._made.get(id(pair))
        if clause is None:
            number, mask, other, other_mask, _ = pair
            clause = Clause([(number, mask), (other, other_mask)], self._cause_of(pair))
            self._made[id(pair)] = clause
        return clause

    def given(self) -> list[Clause]:
        """Return the clauses that were added, in their order."""
        return list(map(self._clause_of, self._given))

    def longer(self) -> Iterator[Clause]:
        """Yield the clauses that were added and are no pairs."""
        return (each for each in self._given if isinstance(each, Clause))

    def within(self, variables: Collection[int]) -> list[Clause]:
        """Return the clauses that were added and speak of nothing but some variables, in a steady order."""
        pairs = (
            pair
            for number in sorted(variables)
            for pair in self._first_in[number]
            if pair[2] in variables
        )
        longer = (
            each
            for each in self.longer()
            if all(number in variables for number, _ in each.literals)
        )
        return [*map(self._clause_of, pairs), *longer]

    @property
    def given_count(self) -> int:
        """How many clauses were added."""
        return len(self._given)

    def pairs_of(self, number: int) -> tuple[list[Pair], list[Pair]]:
        """Return the pairs whose first literal is about a variable, and those whose second one is."""
        return self._first_in[number], self._second_in[number]

    def add(self, literals: list[Literal], cause: object | None) -> None:
        """Add a clause, before any decision. Some of its literals may never hold."""
        clause = Clause(literals, cause)
        self._given.append(clause)
        domains, watching = self.domains, self._watching
        free = [each for each in literals if domains[each[0]] & each[1]]
        if len(free) > 1:
            if len(free) < len(literals):
                literals[:] = free + [each for each in literals if each not in free]
            (first, mask), (second, other_mask) = literals[0], literals[1]
            watching[first].append((mask, clause))
            watching[second].append((other_mask, clause))
        elif free:
            self._narrow(free[0][0], domains[free[0][0]] & free[0][1], clause)
        else:
            self.contradiction = self.contradiction or clause

    def teach(self, literals: list[Literal], parents: tuple[Clause, ...]) -> None:
        """Add a clause that follows from others, while decisions stand; not all of it may be false."""
        self._attach(Clause(literals, None, parents))

    def _attach(self, clause: Clause) -> None:
        """Watch a clause that was learned, and draw what follows from it as things stand."""
        literals = clause.literals
        if len(literals) > 1:
            self._choose_watched(literals)
            for number, mask in literals[:2]:
                self._watching[number].append((mask, clause))
        self._apply_late(clause)

    def _choose_watched(self, literals: list[Literal]) -> None:
        """Put to the front what can still hold, then what became false last."""
        domains = self.domains
        literals.sort(key=lambda each: not domains[each[0]] & each[1])
        if len(literals) < 3 or domains[literals[1][0]] & literals[1][1]:
            return
        masks = dict(literals[1:])
        last = self._last_falsified(masks)
        if last >= 0:
            variable = self._trail[last][0]
            at = literals.index((variable, masks[variable]))
            literals[1], literals[at] = literals[at], literals[1]

    def _last_falsified(self, masks: dict[int, int]) -> int:
        """Return the position on the trail at which the last of some literals became false; -1: all
        of them always were.
        """
        for position in range(len(self._trail) - 1, -1, -1):
            variable, domain, _ = self._trail[position]
            if variable in masks and domain & masks[variable]:
                return position
        return -1

    def _narrow(self, variable: int, domain: int, reason: Clause | None) -> None:
        before = self.domains[variable]
        if domain != before:
            self._trail.append((variable, before, reason))
            self.domains[variable] = domain
            self._follow(variable)

    def _follow(self, variable: int) -> None:
        """Let the narrowing of a variable be followed, once."""
        if not self._waits[variable]:
            self._waits[variable] = True
            self._changed.append(variable)

    def _follow_none(self) -> None:
        for variable in self._changed:
            self._waits[variable] = False
        self._changed.clear()

    def decide(self, *literals: Literal) -> None:
        """Begin a new level by narrowing a variable to the mask, or several variables to theirs.

        What is learned from a conflict with several may narrow nothing yet; not to take them together
        again is left to the caller.
        """
        self._level_starts.append(len(self._trail))
        for variable, mask in literals:
            self._narrow(variable, self.domains[variable] & mask, None)

    def propagate(self) -> Clause | None:
        """Draw all conclusions; return a clause that has become false, or None."""
        if self.contradiction is not None:
            return self.contradiction
        if self._has_new_pairs:
            self._has_new_pairs = False
            for each in self._pairs_by_domain:
                each.clear()
        domains, waits = self.domains, self._waits
        while self._changed:
            variable = self._changed.popleft()
            waits[variable] = False
            domain = domains[variable]
            watching = self._watching[variable]
            self.steps += len(watching)
            first, second = self._pairs_with_false(variable, domain)
            narrowing = [(p[2], p[3], p) for p in first if domains[p[2]] & ~p[3]]
            narrowing += [(p[0], p[1], p) for p in second if domains[p[0]] & ~p[1]]
            for other, other_mask, pair in narrowing:
                possible = domains[other]
                if not possible & ~other_mask:
                    continue
                left = possible & other_mask
                if not left:
                    self._follow_none()
                    return self._clause_of(pair)
                self._trail.append((other, possible, pair))
                domains[other] = left
                if not waits[other]:
                    waits[other] = True
                    self._changed.append(other)
            if not watching:
                continue
            for mask, clause in [w for w in watching if not domain & w[0]]:
                literals = clause.literals
                if literals[0] == (variable, mask):
                    literals[0], literals[1] = literals[1], literals[0]
                other, other_mask = literals[0]
                possible = domains[other]
                if not possible & ~other_mask or watch_another(
                    clause, mask, domains, self._watching
                ):
                    continue
                left = possible & other_mask
                if not left:
                    self._follow_none()
                    return clause
                self._trail.append((other, possible, clause))
                domains[other] = left
                self._follow(other)
        return None

    def _pairs_with_false(self, variable: int, domain: int) -> tuple[list[Pair], list[Pair]]:
        """Return the pairs whose literal about a variable is false where it has a domain: those whose first
        one is about it, and those whose second one is.
        """
        first, second = self._first_in[variable], self._second_in[variable]
        self.steps += len(first) + len(second)
        known = self._pairs_by_domain[variable]
        found = known.get(domain)
        if found is None:
            if len(known) == _DOMAINS_KEPT:
                known.clear()
            in_all = domain & self._in_all_first[variable]
            found = (
                [] if in_all else [each for each in first if not domain & each[1]],
                [each for each in second if not domain & each[3]],
            )
            known[domain] = found
        return found

    def go_back(self, level: int) -> None:
        """Undo everything after so many decisions, but for what follows from those that stay."""
        if level >= len(self._level_starts):
            return
        start = self._level_starts[level]
        for variable, before, _ in reversed(self._trail[start:]):
            self.domains[variable] = before
        del self._trail[start:]
        del self._level_starts[level:]
        self._follow_none()
        late = []
        while self._late and self._late[-1][0] > level:
            late.append(self._late.pop()[1])
        for clause in reversed(late):
            self._apply_late(clause)

    def _apply_late(self, clause: Clause) -> None:
        """Narrow the only variable that a clause leaves open, if it does, perhaps later than due."""
        domains = self.domains
        free = [each for each in clause.literals if domains[each[0]] & each[1]]
        if len(free) == 1:
            size = len(self._trail)
            self._narrow(free[0][0], domains[free[0][0]] & free[0][1], clause)
            if len(self._trail) > size and self.level:
                self._late.append((self.level, clause))

    def learn(self, conflict: Clause) -> Clause | None:
        """Learn from a false clause, go back by the last decision that matters, and apply the lesson.

        Only that decision is undone: most lessons are about the last choice alone, and the choices
        between would all be made again (Nadel and Ryvchin, "Chronological Backtracking", 2018).

        Return None, or a clause that is false without any decision: there is no solution.
        """
        self.conflicts += 1
        lesson = self._analyse(conflict)
        if lesson is None:
            self.contradiction = conflict  # whatever is asked from now on, the answer is the same
            return conflict
        clause, level = lesson
        self.go_back(level)
        self._attach(clause)
        return None

    def _analyse(self, conflict: Clause) -> tuple[Clause, int] | None:
        """Return the clause to learn, and the level at which it narrows something; None: the
        conflict needs no decision.
        """
        resolvent = Resolvent(conflict)
        literals = resolvent.literals
        end = len(self._trail)
        for level, start in reversed([*enumerate(self._level_starts)]):
            # The domains as they were when this level began, of the variables that it changed.
            first = {v: domain for v, domain, _ in reversed(self._trail[start:end])}
            latest = {v for v, mask in literals.items() if first.get(v, 0) & mask}
            point: Clause | None = None
            for position in range(end - 1, start - 1, -1):
                if not latest:
                    break
                variable, domain, reason = self._trail[position]
                if variable not in latest or not domain & literals[variable]:
                    continue
                if len(latest) == 1 and point is None:
                    point = resolvent.clause()
                if reason is None:  # it rests on this level's decision
                    return point or resolvent.clause(), level
                latest.discard(variable)
                latest.update(
                    v
                    for v in resolvent.resolve(self._clause_of(reason), variable)
                    if first.get(v, 0) & literals[v]
                )
            end = start
        return None

    @property
    def trail_length(self) -> int:
        """How many narrowings stand."""
        return len(self._trail)

    def narrowings(self) -> dict[int, list[Narrowing]]:
        """Return what narrowed each variable, in the order in which it happened."""
        found: dict[int, list[Narrowing]] = defaultdict(list)
        for variable, before, reason in self._trail:
            found[variable].append(Narrowing(before, reason and self._clause_of(reason)))
        return found

    def trace(self, conflict: Clause) -> tuple[Clause, ...]:
        """Return all clauses that a false clause rests on as things stand."""
        resolvent = Resolvent(conflict)
        literals = resolvent.literals
        for variable, domain, reason in reversed(self._trail):
            if reason is not None and variable in literals and domain & literals[variable]:
                resolvent.resolve(self._clause_of(reason), variable)
        return tuple(resolvent.parents)
