"""The solver against brute force on small random catalogs, and its refusals."""

from __future__ import annotations

import itertools
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.catalog.model import Mod, Release, Requirement, Source
from rellum.core.ids import ModId
from rellum.core.solving.candidates import find_candidates
from rellum.core.solving.load_order import LoadCycle, sort_for_loading
from rellum.core.solving.problem import Game, Hold, LineUp, Problem, Refusal, Want
from rellum.core.solving.search import find_releases, solve
from rellum.core.versions.orderings import DOTTED, parse_version
from rellum.core.versions.ranges import parse_range

HERE = Source(file="cards/x.toml")
GAME = Game(version=parse_version("1.6"), edition="boxed", expansions=("ice",))


def requirement(mod: str, text: str) -> Requirement:
    return Requirement(mod=ModId(mod), range=parse_range(text), source=HERE)


def release(mod: str, version: str, **said) -> Release:
    values = {
        "game": None,
        "editions": None,
        "expansions_needed": (),
        "expansions_used": (),
        "needs": (),
        "clashes": (),
        "load_after": (),
        "load_before": (),
        "carry": (),
        "files": (),
        "places": (),
        "patches": None,
        "source": HERE,
    }
    return Release(mod=ModId(mod), version=parse_version(version), **{**values, **said})


def catalog(*releases: Release) -> dict[ModId, Mod]:
    by_mod: dict[ModId, list[Release]] = {}
    for each in releases:
        by_mod.setdefault(each.mod, []).append(each)
    return {
        mod: Mod(
            id=mod,
            name=mod,
            kind="mod",
            licence="",
            ordering=DOTTED,
            releases=tuple(sorted(found, key=lambda r: r.version, reverse=True)),
            source=HERE,
        )
        for mod, found in by_mod.items()
    }


def problem(mods, *wants: tuple[str, str], holds=(), locked=()) -> Problem:
    return Problem(
        game=GAME,
        wants=tuple(Want(mod=ModId(m), range=parse_range(r), source=HERE) for m, r in wants),
        holds=tuple(
            Hold(mod=ModId(m), version=parse_version(v), reason="", source=HERE) for m, v in holds
        ),
        mods=mods,
        locked={ModId(m): parse_version(v) for m, v in locked},
    )


NAMES = "abcde"
requirements = st.lists(
    st.builds(
        requirement, st.sampled_from(NAMES), st.sampled_from(["*", "1", "2", ">=2", "<2", ">=3"])
    ),
    max_size=2,
    unique_by=lambda each: each.mod,
).map(tuple)


@st.composite
def problems(draw) -> Problem:
    releases = []
    for name in NAMES[: draw(st.integers(2, 5))]:
        for version in range(1, draw(st.integers(1, 3)) + 1):
            other = lambda found, name=name: tuple(r for r in found if r.mod != name)  # noqa: E731
            releases.append(
                release(
                    name,
                    str(version),
                    needs=other(draw(requirements)),
                    clashes=other(draw(requirements)) if draw(st.booleans()) else (),
                    game=draw(st.sampled_from([None, parse_range("<1.6"), parse_range("1.6")])),
                )
            )
    mods = catalog(*releases)
    chosen = draw(st.lists(st.sampled_from(sorted(mods)), min_size=1, max_size=3, unique=True))
    ranges = st.sampled_from(["*", ">=2", "<3"])
    locked = [(mod, draw(st.sampled_from("123"))) for mod in mods if draw(st.booleans())]
    return problem(mods, *[(mod, draw(ranges)) for mod in chosen], locked=locked)


def is_line_up(found: dict[ModId, Release], asked: Problem) -> bool:
    for want in asked.wants:
        if want.mod not in found or found[want.mod].version not in want.range:
            return False
    for each in found.values():
        if each.game is not None and asked.game.version not in each.game:
            return False
        for need in each.needs:
            if need.mod not in found or found[need.mod].version not in need.range:
                return False
        for clash in each.clashes:
            if clash.mod in found and found[clash.mod].version in clash.range:
                return False
    return True


def brute_force(asked: Problem) -> bool:
    choices = [[None, *mod.releases] for mod in asked.mods.values()]
    return any(
        is_line_up({each.mod: each for each in combination if each}, asked)
        for combination in itertools.product(*choices)
    )


def version_of_a(asked: Problem) -> str:
    found = find_releases(asked)
    assert found
    return found[ModId("a")].version.text


def first_by_brute_force(asked: Problem) -> dict[ModId, Release] | None:
    """Return the first answer in the order of aims: decisions in order, best release first."""
    order = find_candidates(asked)

    def decide(
        waiting: tuple[ModId, ...], taken: dict[ModId, Release]
    ) -> dict[ModId, Release] | None:
        waiting = tuple(mod for mod in waiting if mod not in taken)
        if not waiting:
            return taken if is_line_up(taken, asked) else None
        for each in order.of(waiting[0]):
            needed = tuple(need.mod for need in each.needs)
            found = decide(tuple(dict.fromkeys(waiting[1:] + needed)), {**taken, each.mod: each})
            if found is not None:
                return found
        return None

    return decide(tuple(want.mod for want in asked.wants), {})


class SearchTest(unittest.TestCase):
    @settings(max_examples=600, deadline=None)
    @given(problems())
    def test_finds_one_exactly_where_there_is_one(self, asked) -> None:
        found = find_releases(asked)
        self.assertEqual(found is not None, brute_force(asked))
        if found is not None:
            self.assertTrue(is_line_up(found, asked))
            self.assertEqual(found, first_by_brute_force(asked))
            needed = {need.mod for each in found.values() for need in each.needs}
            self.assertLessEqual(found.keys(), needed | {want.mod for want in asked.wants})

    @settings(max_examples=300, deadline=None)
    @given(problems())
    def test_a_refusal_names_wants_of_which_none_can_be_left_out(self, asked) -> None:
        try:
            answer = solve(asked)
        except LoadCycle:
            return
        if not isinstance(answer, Refusal):
            return
        core = problem(asked.mods, *[(w.mod, w.range.text) for w in answer.wants])
        self.assertFalse(brute_force(core))
        self.assertTrue(answer.statements)
        for left_out in answer.wants:
            fewer = [(w.mod, w.range.text) for w in answer.wants if w is not left_out]
            self.assertTrue(brute_force(problem(asked.mods, *fewer)))

    def test_newest_first_and_the_lock_before_it(self) -> None:
        mods = catalog(release("a", "1"), release("a", "2"), release("a", "3-beta"))
        self.assertEqual(version_of_a(problem(mods, ("a", "*"))), "2")
        self.assertEqual(version_of_a(problem(mods, ("a", "*"), locked=[("a", "1")])), "1")
        self.assertEqual(version_of_a(problem(mods, ("a", ">=3-beta"))), "3-beta")
        held = problem(mods, ("a", "*"), holds=[("a", "1")])
        self.assertEqual(version_of_a(held), "1")

    def test_edition_and_expansion(self) -> None:
        mods = catalog(
            release("a", "1", editions=("boxed",), expansions_needed=("ice",)),
            release("a", "2", editions=("harbour",)),
            release("a", "3", expansions_needed=("deep",)),
        )
        self.assertEqual(version_of_a(problem(mods, ("a", "*"))), "1")

    def test_a_refusal_tells_the_chain(self) -> None:
        mods = catalog(
            release("a", "1", needs=(requirement("lib", ">=3"),)),
            release("b", "1", needs=(requirement("lib", "<3"),)),
            release("c", "1"),
            release("lib", "2"),
            release("lib", "3"),
        )
        answer = solve(problem(mods, ("a", "*"), ("c", "*"), ("b", ">=1")))
        assert isinstance(answer, Refusal)
        self.assertEqual([want.mod for want in answer.wants], ["a", "b"])
        self.assertEqual(
            [statement.text for statement in answer.statements],
            ["the pack wants a", "the pack wants b >=1", "a 1 needs lib >=3", "b 1 needs lib <3"],
        )

    def test_what_has_no_part_in_a_conflict_is_not_searched(self) -> None:
        """Twenty mods of ten releases stand between two that cannot go together but in one way."""
        between = [release(f"m{n:02}", str(v)) for n in range(20) for v in range(10)]
        first = [
            release("first", str(v), clashes=(requirement("last", f">{v}"),)) for v in range(9)
        ]
        last = [release("last", str(v)) for v in range(3, 9)]
        mods = catalog(*between, *first, *last)
        wants = [("first", "<=4"), *[(f"m{n:02}", "*") for n in range(20)], ("last", "*")]
        found = find_releases(problem(mods, *wants))
        assert found
        self.assertEqual(str(found[ModId("first")].version), "4")
        self.assertEqual(str(found[ModId("last")].version), "4")
        none = problem(mods, *[("first", "<=2"), *wants[1:]])
        self.assertIsNone(find_releases(none))
        answer = solve(none)
        assert isinstance(answer, Refusal)
        self.assertEqual([want.mod for want in answer.wants], ["first", "last"])

    def test_a_thousand_mods_in_a_chain(self) -> None:
        releases = [
            release(f"m{n}", "1", needs=(requirement(f"m{n + 1}", "*"),)) for n in range(1000)
        ]
        answer = solve(problem(catalog(*releases, release("m1000", "1")), ("m0", "*")))
        assert isinstance(answer, LineUp)
        self.assertEqual([c.release.mod for c in answer.chosen][:2], ["m1000", "m999"])


class LoadOrderTest(unittest.TestCase):
    def order(self, *releases: Release, pack: tuple[str, ...] = ()) -> list[str]:
        return [each.mod for each in sort_for_loading(releases, tuple(map(ModId, pack)))]

    def test_needs_then_hints_then_pack_then_id(self) -> None:
        needy = release("a", "1", needs=(requirement("z", "*"),))
        hinted = release("b", "1", load_before=(ModId("z"),))
        self.assertEqual(self.order(needy, hinted, release("z", "1")), ["b", "z", "a"])
        plain = [release(name, "1") for name in "abcd"]
        self.assertEqual(self.order(*plain, pack=("c", "b")), ["c", "b", "a", "d"])

    def test_a_cycle_is_shown(self) -> None:
        one = release("a", "1", load_after=(ModId("b"),))
        two = release("b", "1", load_after=(ModId("a"),))
        with self.assertRaisesRegex(LoadCycle, "a after b after a") as caught:
            self.order(one, two, release("c", "1"))
        self.assertEqual(len(caught.exception.details), 2)


if __name__ == "__main__":
    unittest.main()
