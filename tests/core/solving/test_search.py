"""The solver against trying all line-ups, on small random catalogs; and what single cards say."""

from __future__ import annotations

import unittest
from dataclasses import replace
from itertools import permutations
from random import Random
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.catalog.model import Clash, MadeFor, Need, Offer, OptionChoice, OptionGroup, Trial
from rellum.core.solving.load_order import find_circle, sort_for_loading
from rellum.core.solving.problem import LineUp, Locked, Problem
from rellum.core.solving.refusal import explain
from rellum.core.solving.remedies import find_remedies
from rellum.core.solving.search import NotFound, Searcher
from rellum.core.solving.sentences import tell
from rellum.core.solving.solve import chosen_releases, find_line_up, solve
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.ranges import parse_range
from tests.core.solving.worlds import (
    GAMES,
    HERE,
    best_by_trying_all,
    catalog,
    clash,
    holding,
    is_hit,
    is_line_up,
    is_said_in,
    need,
    problem,
    random_problem,
    release,
    requirement,
    wanting,
    with_random_options,
)

randoms = st.integers(0, 2**32).map(Random)


def line_up(asked: Problem) -> LineUp:
    found = find_line_up(Searcher(asked), asked)
    assert isinstance(found, LineUp), found
    return found


def labels(asked: Problem) -> dict[str, str]:
    return {each.release.mod: each.release.label for each in line_up(asked).chosen}


def is_refused(asked: Problem) -> bool:
    return isinstance(Searcher(asked).search(asked), NotFound)


def assert_best(test: unittest.TestCase, asked: Problem) -> None:
    """Hold an answer against all line-ups that there are."""
    searcher = Searcher(asked)
    found = searcher.search(asked)
    best = best_by_trying_all(asked)
    test.assertEqual(isinstance(found, NotFound), best is None)
    if best is not None and not isinstance(found, NotFound):
        test.assertEqual((chosen_releases(searcher, found), found.game), best)


class RandomCatalogsTest(unittest.TestCase):
    @settings(max_examples=500, deadline=None)
    @given(randoms)
    def test_the_answer_is_the_best_there_is(self, source) -> None:
        assert_best(self, random_problem(source))

    @settings(max_examples=150, deadline=None)
    @given(randoms)
    def test_what_was_learned_for_one_question_holds_for_the_next(self, source) -> None:
        asked = random_problem(source)
        searcher = Searcher(asked)
        for _ in range(4):
            games = source.choice([asked.games, GAMES[:1], GAMES[2:]])
            wants = tuple(each for each in asked.wants if source.random() < 0.8)
            other = replace(
                asked,
                games=games,
                wants=wants,
                edition=source.choice(["boxed", None]),
                expansions=source.choice([("ice",), ("deep",), ()]),
            )
            again = searcher.search(other)
            first = Searcher(asked).search(other)
            self.assertEqual(isinstance(again, NotFound), isinstance(first, NotFound))
            if not isinstance(again, NotFound) and not isinstance(first, NotFound):
                self.assertEqual(dict(again.values), dict(first.values))

    @settings(max_examples=150, deadline=None)
    @given(randoms)
    def test_resolving_again_changes_nothing(self, source) -> None:
        asked = random_problem(source)
        searcher = Searcher(asked)
        found = find_line_up(searcher, asked)
        if isinstance(found, NotFound):
            return
        locked = {
            each.release.mod: Locked(version=each.release.version, build=each.release.build)
            for each in found.chosen
        }
        games = tuple(sorted(asked.games, key=lambda version: version != found.game.version))
        again = find_line_up(searcher, replace(asked, locked=locked, games=games))
        self.assertEqual(again, found)

    @settings(max_examples=250, deadline=None)
    @given(randoms)
    def test_looking_first_at_what_is_kept_gives_the_same(self, source) -> None:
        asked = random_problem(source)
        answers = [solve(asked)[1], find_line_up(Searcher(asked), asked)]
        if not isinstance(answers[0], NotFound):
            self.assertEqual(*answers)
        self.assertEqual(*(isinstance(each, NotFound) for each in answers))

    @settings(max_examples=250, deadline=None)
    @given(randoms)
    def test_options_hold_with_all_that_they_say(self, source) -> None:
        asked = with_random_options(source, random_problem(source))
        found = solve(asked)[1]
        if isinstance(found, NotFound):
            return
        chosen = {each.release.mod: each.release for each in found.chosen}
        self.assertTrue(is_line_up(chosen, asked, found.game.version))
        wished = {want.mod: dict(want.options) for want in asked.wants if not want.optional}
        for each in found.chosen:
            options = dict(each.options)
            for group in asked.catalog.mods[each.release.mod].options:
                usable = {
                    choice.id: choice
                    for choice in group.choices
                    if each.release.version in parse_range(choice.releases)
                }
                names = options.get(group.id, ())
                if group.pick == "one":
                    self.assertEqual(len(names), 1 if usable else 0)
                asked_for = wished.get(each.release.mod, {}).get(group.id)
                self.assertIn(asked_for, (None, names))
                for choice in (usable[name] for name in names):
                    # An option's game, needs and clashes are met, asked as if a release said them.
                    clashes = tuple(c for c in choice.clashes if not is_hit(each.release, c))
                    said = release("~", "1", game=choice.game, needs=choice.needs, clashes=clashes)
                    with_it = {**chosen, said.mod: said}
                    self.assertTrue(is_line_up(with_it, asked, found.game.version))


class StatementsTest(unittest.TestCase):
    def test_newest_first_and_the_lock_before_it(self) -> None:
        cards = catalog(release("a", "1"), release("a", "2"), release("a", "3-beta"))
        self.assertEqual(labels(problem(cards, wanting("a"))), {"a": "2"})
        kept = {ModId("a"): Locked(version=parse_version("1"))}
        self.assertEqual(labels(problem(cards, wanting("a"), locked=kept)), {"a": "1"})
        self.assertEqual(labels(problem(cards, wanting("a", ">=3-beta"))), {"a": "3-beta"})
        self.assertEqual(
            labels(problem(cards, wanting("a"), holds=(holding("a", "1"),))), {"a": "1"}
        )

    def test_a_withdrawn_release_only_where_it_is_held(self) -> None:
        cards = catalog(release("a", "1"), release("a", "2", withdrawn="eats saves"))
        self.assertEqual(labels(problem(cards, wanting("a"))), {"a": "1"})
        self.assertEqual(
            labels(problem(cards, wanting("a"), holds=(holding("a", "2"),))), {"a": "2"}
        )

    def test_builds_of_one_version(self) -> None:
        cards = catalog(
            release("a", "1", build="for-old", needs=(need("loader", "<2"),)),
            release("a", "1", build="for-new", needs=(need("loader", ">=2"),)),
            release("loader", "1"),
            release("loader", "2.0+7", game=">=1.7"),
            release("skin", "1", made_for=(MadeFor(ModId("a"), ("for-new",)),)),
        )
        self.assertEqual(labels(problem(cards, wanting("a")))["a"], "1 (for-old)")
        new = problem(cards, wanting("a"), games=GAMES[2:], holds=(holding("loader", "2.0+7"),))
        self.assertEqual(labels(new), {"loader": "2.0+7", "a": "1 (for-new)"})
        self.assertTrue(is_refused(problem(cards, wanting("a"), wanting("skin"))))
        self.assertFalse(is_refused(problem(cards, wanting("skin"))))

    def test_any_one_of_several_and_stand_ins(self) -> None:
        either = Need((requirement("x", ">=2"), requirement("y")), 0)
        cards = catalog(
            release("a", "1", needs=(either,)),
            release("x", "2"),
            release("y", "1"),
            release("b", "1", needs=(need("api", ">=2"),)),
            release("other", "5", offers=(Offer(ModId("api"), parse_version("2.1")),)),
        )
        self.assertEqual(labels(problem(cards, wanting("a"))), {"x": "2", "a": "1"})
        self.assertEqual(labels(problem(cards, wanting("y"), wanting("a"))), {"y": "1", "a": "1"})
        self.assertEqual(list(labels(problem(cards, wanting("b")))), ["other", "b"])

    def test_options_have_needs_of_their_own(self) -> None:
        def choice(name: str, **said) -> OptionChoice:
            values = {"releases": "*", "game": None, "needs": (), "clashes": ()}
            return OptionChoice(id=name, source=HERE, **{**values, **said})

        def group(name: str, pick, default, *choices: OptionChoice) -> OptionGroup:
            return OptionGroup(id=name, pick=pick, default=default, choices=choices, source=HERE)

        options = {
            "a": (
                group(
                    "quality", "one", ("high",),
                    choice("high", needs=(need("textures"),)),
                    choice("low", clashes=(clash("textures"),)),
                    choice("ultra", releases=">=2", game=">=1.7"),
                ),
                group("sounds", "any", ("gulls",), choice("gulls"), choice("winch", needs=(need("z"),))),
            )
        }  # fmt: skip
        cards = catalog(
            release("a", "1"), release("textures", "1"), release("z", "1"), options=options
        )
        plain = line_up(problem(cards, wanting("a")))
        self.assertEqual([each.release.mod for each in plain.chosen], ["a", "textures"])
        self.assertEqual(
            dict(plain.chosen[0].options), {"quality": ("high",), "sounds": ("gulls",)}
        )
        other = wanting("a", options=(("quality", ("low",)), ("sounds", ("winch",))))
        self.assertEqual(labels(problem(cards, other)), {"a": "1", "z": "1"})
        ultra = wanting("a", options=(("quality", ("ultra",)),))
        self.assertTrue(is_refused(problem(cards, ultra, games=GAMES[2:])))  # only from release 2
        # What is switched off need not be there to be off.
        gulls = group("sounds", "any", (), choice("gulls", releases=">=2"))
        cards = catalog(release("a", "2"), release("a", "1"), options={"a": (gulls,)})
        off = wanting("a", "<2", options=(("sounds", ()),))
        self.assertEqual(labels(problem(cards, off)), {"a": "1"})
        self.assertTrue(is_refused(problem(cards, replace(off, options=(("sounds", ("gulls",)),)))))

    def test_optional_wants_and_the_game_as_a_choice(self) -> None:
        cards = catalog(
            release("a", "1", game="<1.7"), release("b", "1", game=">=1.7"), release("c", "1")
        )
        both = problem(cards, wanting("a"), wanting("b", optional=True), wanting("c"))
        found = line_up(both)
        self.assertEqual([want.mod for want in found.left_out], ["b"])
        free = problem(cards, wanting("b", optional=True), wanting("c"), games=GAMES)
        self.assertEqual(line_up(free).game.version, GAMES[2])
        self.assertEqual(line_up(replace(free, wants=free.wants[1:])).game.version, GAMES[0])

    def test_trials_open_and_close_what_cards_say(self) -> None:
        cards = catalog(release("a", "1", game="<1.6"), release("b", "2"), release("b", "1"))

        def trial(outcome, date: str, *releases: tuple[str, str]) -> Trial:
            named = tuple((ModId(mod), version) for mod, version in releases)
            return Trial(
                outcome=outcome, game=GAMES[1], date=date, releases=named, note="", source=HERE
            )

        works = trial("works", "2026-01-01", ("a", "1"))
        asked = problem(cards, wanting("a"), wanting("b"), trials=(works,))
        self.assertTrue(is_refused(asked))
        tried = replace(asked, trust="tried")
        self.assertEqual(line_up(tried).chosen[0].trial, works)
        breaks = trial("breaks", "2026-01-02", ("a", "1"), ("b", "2"))
        self.assertEqual(labels(replace(tried, trials=(works, breaks)))["b"], "1")
        mended = trial("works", "2026-01-03", ("a", "1"), ("b", "2"))
        self.assertEqual(labels(replace(tried, trials=(works, breaks, mended)))["b"], "2")

    def test_a_thousand_mods_in_a_chain(self) -> None:
        chain = [release(f"m{n}", "1", needs=(need(f"m{n + 1}"),)) for n in range(1000)]
        found = line_up(problem(catalog(*chain, release("m1000", "1")), wanting("m0")))
        self.assertEqual([c.release.mod for c in found.chosen][:2], ["m1000", "m999"])


def follows_hints(order) -> bool:
    at = {each.mod: place for place, each in enumerate(order)}
    return all(
        all(at[other] <= at[each.mod] for other in each.load_after if other in at)
        and all(at[other] >= at[each.mod] for other in each.load_before if other in at)
        for each in order
    )


def follows_needs(order) -> bool:
    at = {each.mod: place for place, each in enumerate(order)}
    named = [(each.mod, r.mod) for each in order for n in each.needs for r in n.any_of]
    return all(at[other] <= at[mod] for mod, other in named if other in at)


class GuidedTest(unittest.TestCase):
    """With a guide from the first conflict on."""

    def setUp(self) -> None:
        self.enterContext(mock.patch("rellum.core.solving.search_run._HARD", 0))

    @settings(max_examples=250, deadline=None)
    @given(randoms)
    def test_the_answer_is_the_best_there_is(self, source) -> None:
        assert_best(self, random_problem(source))

    @settings(max_examples=200, deadline=None)
    @given(randoms, st.integers(2, 120))
    def test_a_guide_that_may_do_little_changes_nothing(self, source, most) -> None:
        with mock.patch("rellum.core.solving.search_run._GUIDING", most):
            assert_best(self, random_problem(source))

    @settings(max_examples=100, deadline=None)
    @given(randoms)
    def test_it_is_the_same_with_options_and_when_asked_again(self, source) -> None:
        asked = with_random_options(source, random_problem(source))
        searcher = Searcher(asked)
        answers = [searcher.search(asked), searcher.search(replace(asked, wants=asked.wants[:1]))]
        with mock.patch("rellum.core.solving.search_run._HARD", 1 << 30):
            other = Searcher(asked)
            alone = [other.search(asked), other.search(replace(asked, wants=asked.wants[:1]))]
        for mine, theirs in zip(answers, alone, strict=True):
            self.assertEqual(isinstance(mine, NotFound), isinstance(theirs, NotFound))
            if not isinstance(mine, NotFound) and not isinstance(theirs, NotFound):
                self.assertEqual(dict(mine.values), dict(theirs.values))


class StandInTest(unittest.TestCase):
    def test_a_clash_reaches_what_stands_in_unless_it_says_otherwise(self) -> None:
        def cards(spares: bool):
            against = Clash(requirement("fog", "<2"), "", spares)
            return catalog(
                release("a", "1", clashes=(against,)),
                release("mist", "1", offers=(Offer(ModId("fog"), parse_version("1")),)),
                release("mist", "0.9"),
                release("fog", "2"),
            )

        wants = (wanting("a"), wanting("mist"))
        self.assertEqual(labels(problem(cards(True), *wants)), {"a": "1", "mist": "1"})
        self.assertEqual(labels(problem(cards(False), *wants)), {"a": "1", "mist": "0.9"})
        asked = problem(cards(False), wanting("a"), wanting("mist", "1"))
        searcher = Searcher(asked)
        found = searcher.search(asked)
        assert isinstance(found, NotFound)
        told = [each.text for each in tell(explain(searcher, found).reason.causes)]
        self.assertIn("a 1 clashes with fog <2, for which mist stands in", told)


class CircleTest(unittest.TestCase):
    def test_an_older_release_is_taken_where_the_newest_load_in_a_circle(self) -> None:
        cards = catalog(
            release("a", "1"),
            release("a", "2", load_after=(ModId("b"),)),
            release("b", "1", load_after=(ModId("a"),)),
        )
        self.assertEqual(labels(problem(cards, wanting("a"), wanting("b"))), {"a": "1", "b": "1"})

    def test_a_need_in_a_circle_yields(self) -> None:
        cards = catalog(
            release("a", "2", needs=(need("b"),)),
            release("a", "1"),
            release("b", "1", needs=(need("a"),)),
        )
        self.assertEqual(labels(problem(cards, wanting("a"), wanting("b"))), {"a": "2", "b": "1"})

    def test_a_circle_that_cannot_be_left_is_told(self) -> None:
        cards = catalog(
            release("a", "1", load_before=(ModId("c"),)),
            release("b", "1", load_after=(ModId("c"),)),
            release("c", "1"),
            release("c", "2", load_before=(ModId("b"),)),
            release("a", "2", load_after=(ModId("b"),), load_before=(ModId("c"),)),
            release("b", "2", load_after=(ModId("c"),)),
        )
        asked = problem(cards, wanting("a", "2"), wanting("b"), wanting("c"))
        searcher = Searcher(asked)
        found = searcher.search(asked)
        assert isinstance(found, NotFound)
        told = [each.text for each in tell(explain(searcher, found).reason.causes)]
        self.assertIn("every release of a loads before c", told)
        self.assertIn("every release of b loads after c", told)
        self.assertTrue(any(text.startswith("a 2 loads after b") for text in told), told)
        helps = find_remedies(searcher, asked, explain(searcher, found))
        self.assertTrue(any(each.text == "let a go down to 1" for each in helps), helps)


class LoadOrderTest(unittest.TestCase):
    def order(self, *releases, pack: tuple[str, ...] = ()) -> list[str]:
        return [each.mod for each in sort_for_loading(releases, tuple(map(ModId, pack)))]

    def test_needs_then_hints_then_pack_then_id(self) -> None:
        needy = release("a", "1", needs=(need("z"),))
        hinted = release("b", "1", load_before=(ModId("z"),))
        self.assertEqual(self.order(needy, hinted, release("z", "1")), ["b", "z", "a"])
        plain = [release(name, "1") for name in "abcd"]
        self.assertEqual(self.order(*plain, pack=("c", "b")), ["c", "b", "a", "d"])
        ends = (
            release("a", "1", load_end="last"),
            release("b", "1"),
            release("c", "1", load_end="first"),
        )
        self.assertEqual(self.order(*ends), ["c", "b", "a"])

    def test_mods_that_need_each_other_load_as_their_hints_say(self) -> None:
        one = release("a", "1", needs=(need("b"), need("c")))
        two = release("b", "1", needs=(need("a"),))
        three = release("c", "1", needs=(need("b"),), load_after=(ModId("a"),))
        self.assertEqual(self.order(one, two), ["a", "b"])
        self.assertEqual(self.order(two, one, pack=("b",)), ["b", "a"])
        self.assertEqual(self.order(one, two, three), ["b", "a", "c"])
        outside = release("d", "1", needs=(need("a"),))
        self.assertEqual(self.order(outside, one, two, three, pack=("d",))[-1], "d")

    @settings(max_examples=200, deadline=None)
    @given(randoms)
    def test_an_order_follows_all_hints_and_keeps_needs_where_nothing_runs_in_a_circle(
        self, source
    ) -> None:
        names = "abcdefg"[: source.randint(2, 7)]

        def some() -> tuple[ModId, ...]:
            return tuple(map(ModId, source.sample(names, source.choice([0, 0, 0, 1]))))

        releases = [
            release(
                name, "1", needs=tuple(map(need, some())), load_after=some(), load_before=some()
            )
            for name in names
        ]
        by_mod = {each.mod: each for each in releases}
        circle = find_circle(by_mod)
        orders = [order for order in permutations(releases) if follows_hints(order)]
        self.assertEqual(bool(circle), not orders)
        if circle:
            self.assertEqual(
                [h.earlier for h in circle], [*(h.later for h in circle[1:]), circle[0].later]
            )
            self.assertTrue(all(is_said_in(h, by_mod[h.said_by]) for h in circle))
            return
        order = sort_for_loading(releases, ())
        self.assertIn(order, orders)
        if any(map(follows_needs, orders)):
            self.assertTrue(follows_needs(order))


if __name__ == "__main__":
    unittest.main()
