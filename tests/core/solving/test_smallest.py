"""The smallest reason, against trying all sets; and the fewest bits that hit some sets."""

from __future__ import annotations

import itertools
import unittest
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.solving.bits import bits_of
from rellum.core.solving.prover import OutOfWork, Prover, Work
from rellum.core.solving.smallest import fewest_hitting, find_smallest

randoms = st.integers(0, 2**32).map(Random)


def contradiction(source: Random) -> tuple[Prover, int]:
    """Return clauses over some variables of three values that cannot all hold, and their bits."""
    sizes = [3] * source.randint(2, 5)
    clauses: list[tuple[int, list[tuple[int, int]]]] = []
    while True:
        for _ in range(2):
            some = source.sample(range(len(sizes)), source.randint(1, 2))
            literals = [(number, source.randint(1, 6)) for number in some]
            clauses.append((source.randint(0, len(clauses)), literals))
        numbers = sorted({bit for bit, _ in clauses})
        dense = [(numbers.index(bit), literals) for bit, literals in clauses]
        prover, everything = Prover(dense, sizes), (1 << len(numbers)) - 1
        if prover.solve(everything, Work(1 << 40)).core:
            return prover, everything


class SmallestTest(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(randoms)
    def test_nothing_smaller_cannot_hold(self, source) -> None:
        prover, everything = contradiction(source)
        work = Work(1 << 40)
        found, is_proven = find_smallest(prover, everything, everything, work)
        self.assertTrue(is_proven)
        self.assertTrue(prover.solve(found, work).core)
        for some in itertools.combinations(bits_of(everything), found.bit_count() - 1):
            self.assertFalse(prover.solve(sum(1 << bit for bit in some), work).core)

    @given(st.lists(st.integers(1, 255), max_size=8), st.integers(1, 9))
    def test_the_fewest_hit_all(self, sets, below) -> None:
        best = min(mask.bit_count() for mask in range(256) if all(mask & each for each in sets))
        found = fewest_hitting(sets, below, Work(1 << 40))
        if best >= below:
            self.assertIsNone(found)
        else:
            assert found is not None
            self.assertTrue(all(found & each for each in sets))
            self.assertEqual(found.bit_count(), best)

    def test_without_work_the_known_one_stays(self) -> None:
        prover, everything = contradiction(Random(1))
        self.assertEqual(
            find_smallest(prover, everything, everything, Work(3)), (everything, False)
        )
        with self.assertRaises(OutOfWork):
            fewest_hitting([0b110, 0b011], 9, Work(0))


if __name__ == "__main__":
    unittest.main()
