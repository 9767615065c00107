"""The prover, and what finds short reasons, against trying all values and all subsets of small worlds."""

from __future__ import annotations

import unittest
from itertools import combinations
from typing import Any
from unittest import mock

from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from benchmarks.refusals import PLANTED, dense, entangled
from rellum.core.solving import reasons
from rellum.core.solving.bits import bits_of
from rellum.core.solving.causes import Cause
from rellum.core.solving.cheapest import Cheapest
from rellum.core.solving.clauses import Clause
from rellum.core.solving.minimal import reduce
from rellum.core.solving.numbering import numbered
from rellum.core.solving.prover import OutOfWork, Prover, Work
from rellum.core.solving.reasons import ReasonFinder
from rellum.core.solving.refusal import explain
from rellum.core.solving.search import NotFound, Searcher
from tests.core.solving.test_engine import solutions, worlds

PLENTY = 1 << 40


@st.composite
def refused_worlds(draw: Any) -> tuple[list[int], list[Any]]:
    """Return sizes of variables, and a few clauses that cannot all hold."""
    sizes = draw(st.lists(st.integers(2, 3), min_size=2, max_size=3))
    literals = st.integers(0, len(sizes) - 1).flatmap(
        lambda variable: st.tuples(st.just(variable), st.integers(1, (1 << sizes[variable]) - 2))
    )
    clause = st.lists(literals, min_size=1, max_size=2, unique_by=lambda each: each[0])
    clauses = draw(st.lists(clause, min_size=4, max_size=9))
    assume(not can_hold(sizes, clauses))
    return sizes, clauses


def can_hold(sizes: list[int], clauses: list[Any]) -> bool:
    return next(solutions(sizes, clauses), None) is not None


def smallest_sets(sizes: list[int], clauses: list[Any]) -> set[frozenset[int]]:
    """Return all sets of clauses that cannot hold, and can without any one of them."""
    found: set[frozenset[int]] = set()
    for size in range(1, len(clauses) + 1):
        for some in map(frozenset, combinations(range(len(clauses)), size)):
            if not any(each <= some for each in found) and not can_hold(
                sizes, [clauses[at] for at in some]
            ):
                found.add(some)
    return found


class ProverTest(unittest.TestCase):
    @settings(max_examples=70, deadline=None)
    @given(worlds(), st.lists(st.integers(0, (1 << 16) - 1), min_size=1, max_size=6))
    def test_one_prover_answers_for_any_part_of_the_clauses(self, world: Any, asked: Any) -> None:
        sizes, clauses = world
        prover = Prover(list(enumerate(clauses)), sizes)
        for on in [*asked, (1 << len(clauses)) - 1]:
            on &= (1 << len(clauses)) - 1
            part = [clauses[at] for at in bits_of(on)]
            answer = prover.solve(on, Work(PLENTY))
            self.assertEqual(bool(answer.core), not can_hold(sizes, part))
            if answer.core:
                self.assertFalse(answer.core & ~on)
                core = [clauses[at] for at in bits_of(answer.core)]
                self.assertFalse(can_hold(sizes, core))
            else:
                for clause in part:
                    self.assertTrue(any(answer.model[v] & mask for v, mask in clause))

    @settings(max_examples=250, deadline=None)
    @given(worlds(), st.lists(st.tuples(st.integers(0, 4), st.integers(1, 15)), max_size=5))
    @example(
        ([4, 2], [[(0, 3)]]), [(0, 6), (0, 5)]
    )  # the first leaves what a clause ruled out before
    def test_assumptions_are_told_from_clauses(self, world: Any, asked: Any) -> None:
        sizes, clauses = world
        prover = Prover(list(enumerate(clauses)), sizes)
        assumed = [
            (number % len(sizes), mask & (1 << sizes[number % len(sizes)]) - 1)
            for number, mask in asked
            if number % len(sizes) in prover.domains
        ]
        for few in (assumed, assumed[:2], assumed):
            answer = prover.solve((1 << len(clauses)) - 1, Work(PLENTY), few)
            everything = [*clauses, *([each] for each in few)]
            self.assertEqual(answer.is_possible, can_hold(sizes, everything))
            if not answer.is_possible:
                core = [clauses[at] for at in bits_of(answer.core)]
                failed = [[few[place]] for place in answer.failed]
                self.assertFalse(can_hold(sizes, [*core, *failed]))

    @settings(max_examples=70, deadline=None)
    @given(refused_worlds(), st.randoms(use_true_random=False))
    def test_of_what_is_reduced_nothing_can_be_left_out(self, world: Any, dice: Any) -> None:
        sizes, clauses = world
        prover = Prover(list(enumerate(clauses)), sizes)
        order = dice.sample(range(len(clauses)), len(clauses))
        core, is_minimal = reduce(prover, (1 << len(clauses)) - 1, order, Work(PLENTY))
        self.assertTrue(is_minimal)
        self.assertIn(frozenset(bits_of(core)), smallest_sets(sizes, clauses))

    @settings(max_examples=70, deadline=None)
    @given(worlds())
    def test_what_the_cheapest_conclusions_contradict_cannot_hold(self, world: Any) -> None:
        sizes, clauses = world
        found = Cheapest(list(enumerate(clauses)), Work(PLENTY)).conflict()
        if found is not None:
            self.assertFalse(can_hold(sizes, [clauses[at] for at in found]))

    @settings(max_examples=70, deadline=None)
    @given(refused_worlds())
    def test_all_reasons_are_found_and_the_shortest_is_told(self, world: Any) -> None:
        sizes, clauses = world
        finder = finder_of(sizes, clauses, PLENTY)
        expected = smallest_sets(sizes, clauses)
        found = {each.statements for each in finder.known}
        if finder.is_complete:
            self.assertEqual(found, expected)
        else:
            self.assertGreater(len(expected), 12)
        self.assertLessEqual(found, expected)
        self.assertEqual(len(finder.best.statements), min(map(len, found)))

    @settings(max_examples=50, deadline=None)
    @given(refused_worlds(), st.integers(0, 40))
    def test_with_too_little_work_a_reason_is_told_all_the_same(
        self, world: Any, work: int
    ) -> None:
        sizes, clauses = world
        finder = finder_of(sizes, clauses, work)
        best = finder.best
        self.assertFalse(can_hold(sizes, [clauses[at] for at in best.statements]))
        if best.is_minimal:
            self.assertIn(best.statements, smallest_sets(sizes, clauses))

    def test_work_is_counted_and_ends(self) -> None:
        searcher, found = refused(dense(7))
        prover = Prover(
            [(at, c.literals) for at, c in enumerate(found.clauses)], searcher.engine.sizes
        )
        with self.assertRaises(OutOfWork):
            prover.solve((1 << len(found.clauses)) - 1, Work(50))


def finder_of(sizes: list[int], clauses: list[Any], work: int) -> ReasonFinder:
    given_ = [Clause(list(each), Cause()) for each in clauses]
    finder = ReasonFinder(sizes, NotFound((), tuple(given_)), given_, Work(work))
    finder.find()
    return finder


def refused(problem: Any) -> tuple[Searcher, NotFound]:
    searcher = Searcher(problem)
    found = searcher.search(problem)
    assert isinstance(found, NotFound)
    return searcher, found


class PlantedTest(unittest.TestCase):
    def test_a_planted_reason_of_eight_is_told(self) -> None:
        for seed in range(2):
            refusal = explain(*refused(entangled(seed, mods=300, wants=60)))
            self.assertLessEqual(len(refusal.reason.causes), PLANTED)
            self.assertTrue(refusal.reason.is_minimal)

    def test_near_the_threshold_a_minimal_reason_is_found(self) -> None:
        for seed in (2, 5):
            refusal = explain(*refused(dense(seed)))
            self.assertTrue(refusal.reason.is_minimal)
            self.assertLess(len(refusal.reason.causes), 200)

    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 1 << 30))
    def test_in_a_large_world_a_short_proof_gives_a_minimal_reason(self, seed: int) -> None:
        problem = dense(seed, mods=14)
        searcher = Searcher(problem)
        found = searcher.search(problem)
        if not isinstance(found, NotFound):
            return
        with mock.patch.object(reasons, "_LARGE", 0):
            near = explain(searcher, found)
        world = numbered((*found.supposed, *searcher.engine.given()))
        prover = Prover(world.clauses, searcher.engine.sizes)
        number = {id(cause): at for at, cause in enumerate(world.causes)}
        told = sum(1 << number[id(cause)] for cause in near.reason.causes)
        self.assertTrue(prover.solve(told, Work(PLENTY)).core)
        for bit in bits_of(told if near.reason.is_minimal else 0):
            self.assertFalse(prover.solve(told & ~(1 << bit), Work(PLENTY)).core)


if __name__ == "__main__":
    unittest.main()
