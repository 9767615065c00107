"""What is said of a release at once is what a whole search says of it."""

from __future__ import annotations

import unittest
from dataclasses import replace
from random import Random

from hypothesis import example, given, settings
from hypothesis import strategies as st

from rellum.core.solving import causes
from rellum.core.solving.at_once import AtOnce
from rellum.core.solving.newer_releases import brief, find_news
from rellum.core.solving.problem import LineUp, Locked, Problem
from rellum.core.solving.search import Searcher
from rellum.core.solving.solve import find_line_up
from rellum.core.solving.suppose import Change, Outcome, Releases, suppose
from rellum.core.values.ids import ModId
from rellum.core.versions.ranges import parse_range
from tests.core.solving.test_search import assert_best
from tests.core.solving.worlds import (
    catalog,
    need,
    random_problem,
    release,
    wanting,
    with_random_options,
)
from tests.core.solving.worlds import (
    problem as asking,
)

randoms = st.integers(0, 2**32).map(Random)


def standing(asked: Problem) -> tuple[Problem, Releases] | None:
    """Return a problem whose line-up stands, and that line-up; None where there is none."""
    line_up = find_line_up(Searcher(asked), asked)
    if not isinstance(line_up, LineUp):
        return None
    locked = {
        each.release.mod: Locked(
            version=each.release.version, build=each.release.build, options=each.options
        )
        for each in line_up.chosen
    }
    return replace(asked, locked=locked), {e.release.mod: e.release for e in line_up.chosen}


class AtOnceTest(unittest.TestCase):
    @settings(max_examples=300, deadline=None)
    @given(randoms, st.booleans(), st.booleans())
    @example(
        Random(2307), True, False
    )  # another release has its options by default, and they need a mod
    def test_it_is_what_a_search_says(self, source, has_options, is_quick) -> None:
        asked = random_problem(source)
        stands = standing(with_random_options(source, asked) if has_options else asked)
        if stands is None:
            return
        problem, now = stands
        searcher = Searcher(problem, is_quick=is_quick)
        at_once = AtOnce(searcher, problem, now)
        for mod in now:
            for each in searcher.rules.mods[mod].mod.releases:
                refused = at_once.refusal(each)
                leaving = None if refused else at_once.leaving(each)
                other = Searcher(problem)
                truth = suppose(other, problem, each, now)
                if refused:
                    self.assertIsNotNone(truth.reason)
                    self.assert_speaks_of(each, refused.causes)
                if leaving is not None:
                    gone = (Change(mod=m, before=now[m], after=None) for m in sorted(leaving))
                    self.assertIsNone(truth.reason)
                    self.assertEqual(truth.changes, tuple(gone))

    def assert_speaks_of(self, release, told) -> None:
        """What others say of the release's mod must leave this release out."""
        for cause in told:
            if isinstance(cause, causes.Needs) and cause.variable.mod.id != release.mod:
                for each in cause.need.any_of:
                    if each.mod == release.mod and cause.option is None:
                        self.assertNotIn(release.version, parse_range(each.range))

    @settings(max_examples=100, deadline=None)
    @given(randoms)
    def test_news_is_what_searches_say(self, source) -> None:
        stands = standing(random_problem(source))
        if stands is None:
            return
        problem, now = stands
        for each in find_news(problem, now, list(now), tells=False):
            truth = suppose(Searcher(problem), problem, each.release, now)
            self.assertEqual(each.outcome.reason is None, truth.reason is None)
            self.assertEqual(each.outcome.changes, truth.changes)
            self.assertEqual(each.statements, ())

    def test_these_take_no_search(self) -> None:
        """One release is free, with one a mod is not needed any more, and two are ruled out."""
        cards = catalog(
            release("a", "5", needs=[need("c", ">=9")]),
            release("a", "4", needs=[need("c", "<=1")]),
            release("a", "3"),
            release("a", "2", needs=[need("b"), need("c")]),
            release("a", "1", needs=[need("b")]),
            release("b", "1"),
            release("c", "2"),
            release("c", "1"),
        )
        asked = asking(cards, wanting("a", "*"), wanting("c", ">=2"))
        found = {ModId(mod): cards.mods[ModId(mod)].releases[-1] for mod in "ab"}
        found[ModId("c")] = cards.mods[ModId("c")].releases[0]
        locked = {mod: Locked(version=each.version) for mod, each in found.items()}
        asked = replace(asked, locked=locked)
        at_once = AtOnce(Searcher(asked), asked, found)
        five, four, three, two, _ = cards.mods[ModId("a")].releases
        for ruled_out, words in ((five, "needs c >=9"), (four, "needs c <=1")):
            refused = at_once.refusal(ruled_out)
            assert refused is not None
            self.assertEqual(brief(Outcome(release=ruled_out, changes=(), reason=refused)), words)
        self.assertIsNone(at_once.refusal(three))
        self.assertEqual(at_once.leaving(three), ("b",))
        self.assertIsNone(at_once.refusal(two))
        self.assertEqual(at_once.leaving(two), ())


class StandingTest(unittest.TestCase):
    """With a line-up that stands: its wishes are granted together where they can be."""

    @settings(max_examples=250, deadline=None)
    @given(randoms)
    def test_the_answer_is_the_best_there_is(self, source) -> None:
        asked = random_problem(source)
        locked = {}
        for mod in source.sample([*asked.catalog.mods.values()], len(asked.catalog.mods)):
            if source.random() < 0.85:
                kept = source.choice(mod.releases)
                locked[mod.id] = Locked(version=kept.version, build=kept.build)
        assert_best(self, replace(asked, locked=locked))


if __name__ == "__main__":
    unittest.main()
