"""Refusals: that nothing in them can be left out, that remedies work, and how they are told."""

from __future__ import annotations

import unittest
from dataclasses import replace
from random import Random
from unittest import mock

from hypothesis import example, given, settings
from hypothesis import strategies as st

from rellum.core.catalog.model import MadeFor, Need, Trial
from rellum.core.solving import causes, giving_up, reasons
from rellum.core.solving.giving_up import fewest_to_give_up
from rellum.core.solving.problem import Problem
from rellum.core.solving.refusal import Refusal, explain, without
from rellum.core.solving.remedies import find_remedies
from rellum.core.solving.search import Found, NotFound, Searcher
from rellum.core.solving.sentences import tell
from rellum.core.values.ids import ModId
from rellum.core.versions.ranges import parse_range
from tests.core.solving.worlds import (
    GAMES,
    HERE,
    best_by_trying_all,
    catalog,
    clash,
    holding,
    need,
    problem,
    random_problem,
    release,
    requirement,
    wanting,
    with_random_options,
)

randoms = st.integers(0, 2**32).map(Random)


def refusal(asked: Problem) -> tuple[Searcher, Refusal]:
    searcher = Searcher(asked)
    found = searcher.search(asked)
    assert isinstance(found, NotFound), found
    return searcher, explain(searcher, found)


def told(asked: Problem) -> list[str]:
    return [each.text for each in tell(refusal(asked)[1].reason.causes)]


def remedies(asked: Problem) -> list[str]:
    return [each.text for each in find_remedies(*_with(asked))]


def _with(asked: Problem) -> tuple[Searcher, Problem, Refusal]:
    searcher, refused = refusal(asked)
    return searcher, asked, refused


class RandomCatalogsTest(unittest.TestCase):
    @settings(max_examples=200, deadline=None)
    @given(randoms, st.booleans())
    def test_the_wants_told_stand_against_each_other_and_none_is_idle(
        self, source, is_large: bool
    ) -> None:
        asked = random_problem(source, most=5)
        found = Searcher(asked).search(asked)
        if not isinstance(found, NotFound):
            return
        with mock.patch.object(reasons, "_LARGE", 0 if is_large else 1 << 30):
            _, refused = refusal(asked)
        self.assertTrue(tell(refused.reason.causes))
        self.assertIsNone(best_by_trying_all(replace(asked, wants=refused.wants)))
        said = [
            (type(cause), cause.variable.mod.id, repr(cause))
            for cause in refused.reason.causes
            if isinstance(cause, causes.OfReleases)
        ]
        self.assertEqual(len(said), len(set(said)))  # none is there twice

    @settings(max_examples=150, deadline=None)
    @given(randoms)
    @example(
        Random(1980)
    )  # 'a' alone fails by a circle in the load order, all of it by something else
    def test_what_is_said_to_be_impossible_alone_is(self, source) -> None:
        asked = with_random_options(source, random_problem(source, most=5))
        searcher = Searcher(asked)
        found = searcher.search(asked)
        if not isinstance(found, NotFound):
            return
        alone = [
            want.mod
            for want in asked.wants
            if isinstance(Searcher(one := replace(asked, wants=(want,))).search(one), NotFound)
        ]
        self.assertEqual(sorted(explain(searcher, found).alone), sorted(alone))

    @settings(max_examples=250, deadline=None)
    @given(randoms, st.booleans(), st.booleans())
    def test_the_fewest_wants_to_give_up(self, source, has_options, is_small) -> None:
        asked = random_problem(source, most=5)
        asked = with_random_options(source, asked) if has_options else asked
        searcher = Searcher(asked)
        if isinstance(searcher.search(asked), Found):
            return
        with mock.patch.object(giving_up, "SMALL", 1 << 30 if is_small else 0):
            fewest = fewest_to_give_up(searcher, asked)

        def helps(left: Problem) -> bool:
            if has_options:
                return isinstance(Searcher(left).search(left), Found)
            return best_by_trying_all(left) is not None

        enough = [
            size
            for size in range(len(asked.wants) + 1)
            if any(helps(without(asked, *some)) for some in _of_size(asked, size))
        ]
        self.assertEqual(None if fewest is None else len(fewest), min(enough, default=None))

    @settings(max_examples=60, deadline=None)
    @given(randoms)
    def test_where_two_changes_help_some_are_offered(self, source) -> None:
        asked = random_problem(source, most=5)
        if isinstance(Searcher(asked).search(asked), Found):
            return
        firsts = [*one_change(asked)]
        helps = any(
            isinstance(Searcher(both).search(both), Found)
            for first in firsts
            for both in (first, *one_change(first))
        )
        if helps:
            self.assertTrue(remedies(asked))


def one_change(asked: Problem):
    """Yield the problem with one thing otherwise: a want dropped or of any range, a hold, the game."""
    for want in asked.wants:
        yield without(asked, want)
        anything = replace(want, range=parse_range("*"))
        wants = tuple(anything if each is want else each for each in asked.wants)
        yield replace(asked, wants=wants)
    for hold in asked.holds:
        yield replace(asked, holds=tuple(each for each in asked.holds if each is not hold))
    for game in GAMES:
        yield replace(asked, games=(game,))


def _of_size(asked: Problem, size: int):
    from itertools import combinations

    return combinations(asked.wants, size)


class WordsTest(unittest.TestCase):
    def test_a_chain_is_told_from_the_wants_on(self) -> None:
        cards = catalog(
            release("a", "1", needs=(need("b", ">=2"),)),
            release("b", "1"),
            release("b", "2", needs=(need("lib", ">=3"),)),
            release("b", "3", needs=(need("lib", ">=3"),)),
            release("c", "1", needs=(need("lib", "<3"),)),
            release("idle", "1"),
            release("lib", "2"),
            release("lib", "3"),
        )
        asked = problem(cards, wanting("idle"), wanting("a"), wanting("c", ">=1"))
        self.assertEqual(
            told(asked),
            [
                "the pack wants a",
                "a 1 needs b >=2",
                "b 2 and 3 need lib >=3",
                "the pack wants c >=1",
                "c 1 needs lib <3",
            ],
        )
        self.assertEqual(remedies(asked), ["drop a", "drop c >=1"])

    def test_two_changes_are_offered_where_no_single_one_helps(self) -> None:
        cards = catalog(
            release("a", "1", needs=(need("lib", "<3"),)),
            release("a", "2", needs=(need("lib", ">=3"),)),
            release("b", "1", needs=(need("lib", "<3"),)),
            release("b", "2", needs=(need("lib", ">=3"), need("c", ">=2"))),
            release("c", "1"),
            release("c", "2"),
            release("lib", "3"),
        )
        asked = problem(cards, wanting("a", "1"), wanting("b", "1"), holds=(holding("c", "1"),))
        self.assertIn("let a go to 2 and drop b 1", remedies(asked))
        asked = problem(cards, wanting("a", "1"), wanting("b", "1"))
        self.assertEqual(remedies(asked)[0], "let a go to 2 and let b go to 2")

    def test_of_two_reasons_the_shorter_and_how_many_more(self) -> None:
        cards = catalog(
            release("a", "1", needs=(need("m"),), clashes=(clash("z"),)),
            release("m", "1", needs=(need("n"),)),
            release("n", "1", clashes=(clash("z"),)),
            release("z", "1"),
        )
        asked = problem(cards, wanting("a"), wanting("z"))
        self.assertEqual(
            told(asked), ["the pack wants a", "a 1 clashes with z", "the pack wants z"]
        )
        self.assertEqual(len(refusal(asked)[1].others), 1)

    def test_each_kind_of_statement_has_its_sentence(self) -> None:
        cards = catalog(
            release("old", "1", game="<1.6"),
            release("boxed", "1", editions=("harbour",)),
            release("icy", "1", expansions_needed=("deep",)),
            release("dry", "1", expansions_forbidden=("ice",)),
            release("gone", "1", withdrawn="eats saves"),
            release("early", "1-rc1"),
            release("lonely", "1", needs=(need("nowhere", ">=2"),)),
            release("picky", "1", needs=(need("lib", ">=9"),)),
            release("either", "1", needs=(Need((requirement("old"), requirement("gone")), 0),)),
            release("skin", "1", made_for=(MadeFor(ModId("hull"), ("wide",)),)),
            release("hull", "1", build="slim"),
            release("lib", "2"),
        )
        expected = {
            "old": "old 1 is for game <1.6",
            "boxed": "boxed 1 is for the edition harbour",
            "icy": "icy 1 needs the expansion deep",
            "dry": "dry 1 forbids the expansion ice",
            "gone": "gone 1 was withdrawn: eats saves",
            "early": "early 1-rc1 is a pre-release, taken only where a want or hold names one",
            "lonely": "lonely 1 needs nowhere >=2, for which there is no card",
            "picky": "picky 1 needs lib >=9, which has only 2",
            "either": "either 1 needs old or gone",
        }
        for mod, sentence in expected.items():
            self.assertIn(sentence, told(problem(cards, wanting(mod))))
        pair = told(problem(cards, wanting("skin"), wanting("hull")))
        self.assertIn("skin 1 goes only on hull wide", pair)
        held = told(problem(cards, wanting("lib", ">=2"), holds=(holding("lib", "1"),)))
        self.assertIn("the pack holds lib at 1 (so)", held)

    def test_what_broke_together_is_told(self) -> None:
        broke = Trial(
            outcome="breaks", game=GAMES[1], date="2026-01-01", note="the lamps go out",
            releases=((ModId("a"), "1"), (ModId("b"), "1")), source=HERE,
        )  # fmt: skip
        cards = catalog(release("a", "1"), release("b", "1"))
        asked = problem(cards, wanting("a"), wanting("b"), trials=(broke,))
        sentence = "a 1 and b 1 broke together on game 1.6, tried 2026-01-01: the lamps go out"
        self.assertIn(sentence, told(asked))
        self.assertIn("move to game 1.7", remedies(asked))


class RemediesTest(unittest.TestCase):
    def test_from_the_cheapest_on(self) -> None:
        works = Trial(
            outcome="works", game=GAMES[1], date="2026-01-01", note="",
            releases=((ModId("a"), "2"),), source=HERE,
        )  # fmt: skip
        cards = catalog(
            release("a", "1", game=">=1.7", expansions_needed=("deep",)),
            release("a", "2", game=">=1.7"),
            release("a", "0.9"),
        )
        asked = problem(cards, wanting("a", ">=1"), trials=(works,))
        self.assertEqual(
            remedies(asked),
            [
                "let a go down to 0.9",
                "trust what was tried, too",
                "move to game 1.7",
                "drop a >=1",
            ],
        )

    def test_a_hold_a_pre_release_an_expansion(self) -> None:
        cards = catalog(
            release("a", "1", needs=(need("lib", ">1"),)),
            release("lib", "1"),
            release("lib", "2-beta"),
            release("icy", "1", expansions_needed=("deep",)),
        )
        self.assertIn("take the pre-release lib 2-beta", remedies(problem(cards, wanting("a"))))
        self.assertIn("get the expansion deep", remedies(problem(cards, wanting("icy"))))
        held = problem(cards, wanting("lib", "*"), holds=(holding("lib", "7"),))
        self.assertIn("let go of the hold on lib; it would be 1", remedies(held))

    def test_several_to_give_up_where_one_is_not_enough(self) -> None:
        cards = catalog(
            release("a", "1", clashes=(clash("b"), clash("c"))),
            release("b", "1", clashes=(clash("c"),)),
            release("c", "1"),
        )
        asked = problem(cards, wanting("a"), wanting("b"), wanting("c"))
        self.assertEqual(remedies(asked)[-1], "drop b and c")


if __name__ == "__main__":
    unittest.main()
