"""The engine and the reduction of contradictions, against trying all values."""

from __future__ import annotations

import itertools
import unittest

from hypothesis import example, given, settings
from hypothesis import strategies as st

from rellum.core.solving.clauses import Clause, leaves_of
from rellum.core.solving.engine import Engine

Literals = list[tuple[int, int]]


@st.composite
def worlds(draw) -> tuple[list[int], list[Literals]]:
    """Return the sizes of some variables, and clauses over them."""
    sizes = draw(st.lists(st.integers(2, 4), min_size=2, max_size=5))
    literals = st.integers(0, len(sizes) - 1).flatmap(
        lambda variable: st.tuples(st.just(variable), st.integers(0, (1 << sizes[variable]) - 1))
    )
    clause = st.lists(literals, min_size=1, max_size=3, unique_by=lambda each: each[0])
    return sizes, draw(st.lists(clause, max_size=22))


def solutions(sizes: list[int], clauses: list[Literals]):
    for values in itertools.product(*map(range, sizes)):
        if all(any(mask >> values[v] & 1 for v, mask in clause) for clause in clauses):
            yield values


def engine_of(sizes: list[int], clauses: list[Literals]) -> Engine:
    engine = Engine()
    for size in sizes:
        engine.add_variable(size)
    add(engine, clauses)
    return engine


def add(engine: Engine, clauses: list[Literals], first: int = 0) -> None:
    for number, clause in enumerate(clauses, first):
        if len(clause) == 2:
            engine.add_pair(*clause[0], *clause[1], number)
        else:
            engine.add(list(clause), number)


def run(engine: Engine, learned: list[Clause] | None = None) -> tuple[int, ...] | Clause:
    """Search, lowest values first; return the values, or the clause that is false for good."""
    while True:
        conflict = engine.propagate()
        if conflict is not None:
            lasting = engine.learn(conflict)
            if learned is not None:
                learned += [c for watched in engine._watching for _, c in watched if c.parents]
            if lasting is not None:
                return lasting
            continue
        open_ones = [n for n, domain in enumerate(engine.domains) if domain & domain - 1]
        if not open_ones:
            return tuple(domain.bit_length() - 1 for domain in engine.domains)
        domain = engine.domains[open_ones[0]]
        engine.decide((open_ones[0], domain & -domain))


class EngineTest(unittest.TestCase):
    @settings(max_examples=400, deadline=None)
    @given(worlds())
    def test_finds_the_first_solution_or_that_there_is_none(self, world) -> None:
        sizes, clauses = world
        found = run(engine_of(sizes, clauses))
        best = next(solutions(sizes, clauses), None)
        self.assertEqual(None if isinstance(found, Clause) else found, best)

    @settings(max_examples=200, deadline=None)
    @given(worlds(), st.integers(0, 22))
    def test_clauses_that_come_later_count_like_the_others(self, world, known: int) -> None:
        sizes, clauses = world
        engine = engine_of(sizes, clauses[:known])
        run(engine)
        engine.go_back(0)
        add(engine, clauses[known:], known)
        found = run(engine)
        best = next(solutions(sizes, clauses), None)
        self.assertEqual(None if isinstance(found, Clause) else found, best)

    @settings(max_examples=200, deadline=None)
    @given(worlds())
    def test_what_is_learned_follows_from_what_was_given(self, world) -> None:
        sizes, clauses = world
        learned: list[Clause] = []
        run(engine_of(sizes, clauses), learned)
        for values in solutions(sizes, clauses):
            for clause in learned:
                self.assertTrue(any(mask >> values[v] & 1 for v, mask in clause.literals))

    @settings(max_examples=300, deadline=None)
    @given(worlds())
    def test_a_contradiction_rests_on_clauses_that_cannot_hold(self, world) -> None:
        sizes, clauses = world
        engine = engine_of(sizes, clauses)
        found = run(engine)
        if not isinstance(found, Clause):
            return
        used = leaves_of(engine.trace(found))
        named = [clauses[each.cause] for each in used if isinstance(each.cause, int)]
        self.assertIsNone(next(solutions(sizes, named), None))

    @settings(max_examples=200, deadline=None)
    @given(worlds(), st.lists(st.tuples(st.integers(0, 4), st.integers(0, 15)), max_size=4))
    @example(
        ([2, 2], [[(0, 1), (1, 2)], [(0, 2)], [(1, 1)]]), [(0, 2)]
    )  # impossible from the start
    def test_one_engine_answers_many_questions(self, world, questions) -> None:
        """Supposed by decisions, taken back, and supposed otherwise: as if asked for the first time."""
        sizes, clauses = world
        engine = engine_of(sizes, clauses)
        run(engine)
        for number, mask in questions:
            variable = number % len(sizes)
            engine.go_back(0)
            fresh = engine_of(sizes, [*clauses, [(variable, mask & (1 << sizes[variable]) - 1)]])
            expected = isinstance(run(fresh), Clause)
            self.assertEqual(self.refused(engine, variable, mask), expected)

    def refused(self, engine: Engine, variable: int, mask: int) -> bool:
        while True:
            conflict = engine.propagate()
            if conflict is not None:
                if engine.learn(conflict) is not None:
                    return True
                continue
            if engine.level == 0:
                if not engine.domains[variable] & mask:
                    return True
                engine.decide((variable, mask))
                continue
            open_ones = [n for n, domain in enumerate(engine.domains) if domain & domain - 1]
            if not open_ones:
                return False
            domain = engine.domains[open_ones[0]]
            engine.decide((open_ones[0], domain & -domain))


if __name__ == "__main__":
    unittest.main()
