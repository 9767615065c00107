"""All circles of hints, against the circles of all line-ups that there could be."""

from __future__ import annotations

import itertools
import unittest
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.catalog.model import Release
from rellum.core.catalog.terms import LoadTerm, MadeTerms
from rellum.core.solving.load_circles import all_circles
from rellum.core.solving.load_order import Hint, find_circle
from rellum.core.values.ids import ModId
from tests.core.solving.worlds import catalog, is_said_in, release

MODS = [ModId(each) for each in "abcd"]


def hints_in(releases: dict[ModId, list[Release]]) -> dict[ModId, tuple[LoadTerm, ...]]:
    book = MadeTerms(catalog(*(each for its in releases.values() for each in its)))
    return {mod: book.terms(mod).load for mod in releases}


class LoadCirclesTest(unittest.TestCase):
    @settings(max_examples=100, deadline=None)
    @given(st.integers(0, 2**32).map(Random))
    def test_every_circle_is_known(self, source) -> None:
        def some() -> tuple[ModId, ...]:
            return tuple(mod for mod in MODS if source.random() < 0.25)

        releases = {
            mod: [release(mod, v, load_after=some(), load_before=some()) for v in "12"]
            for mod in MODS
        }
        circles, are_all = all_circles(hints_in(releases))
        known = {frozenset(each) for each in circles}
        self.assertEqual(len(known), len(circles))
        self.assertTrue(are_all)
        for chosen in itertools.product(*([None, *each] for each in releases.values())):
            circle = find_circle({each.mod: each for each in chosen if each})
            self.assertTrue(not circle or frozenset(circle) in known, circle)
        for circle in circles:
            for hint, following in zip(circle, (*circle[1:], circle[0]), strict=True):
                self.assertEqual(hint.earlier, following.later)
                self.assertTrue(any(is_said_in(hint, each) for each in releases[hint.said_by]))

    def test_of_very_many_it_says_that_these_are_not_all(self) -> None:
        names = [ModId(f"m{number}") for number in range(12)]
        releases = {name: [release(name, "1", load_after=tuple(names))] for name in names}
        circles, are_all = all_circles(hints_in(releases))
        self.assertFalse(are_all)
        self.assertIsInstance(circles[0][0], Hint)


if __name__ == "__main__":
    unittest.main()
