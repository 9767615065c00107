"""Ranges: the laws of set algebra, and the syntax."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.versions.orderings import DOTTED, Ordering, parse_version
from rellum.core.versions.ranges import RangeSyntaxError, parse_range, range_text
from tests.core.versions.test_orderings import dotted_texts, versions_of

numbers = st.lists(st.integers(0, 11), min_size=1, max_size=4)
endings = st.sampled_from(["", "", "-beta", "-rc.2"])
terms = st.one_of(
    st.just("*"),
    st.tuples(st.sampled_from([">=", ">", "<=", "<", "==", "!=", ""]), dotted_texts).map("".join),
    st.tuples(st.just(">="), dotted_texts, st.just("-")).map("".join),
    st.lists(st.integers(0, 9).map(str), min_size=1, max_size=3).map(lambda n: ".".join(n) + ".*"),
)
alternatives = st.lists(terms, min_size=1, max_size=3).map(", ".join)
versions = versions_of(DOTTED)
ranges = st.lists(alternatives, min_size=1, max_size=3).map(" | ".join).map(parse_range)


class AlgebraTest(unittest.TestCase):
    @given(ranges, ranges, versions)
    def test_membership_follows_the_operations(self, a, b, v) -> None:
        self.assertEqual(v in (a & b), v in a and v in b)
        self.assertEqual(v in (a | b), v in a or v in b)
        self.assertEqual(v in ~a, v not in a)

    @given(ranges, ranges, ranges)
    def test_laws(self, a, b, c) -> None:
        self.assertEqual(a & b, b & a)
        self.assertEqual(a | (b | c), (a | b) | c)
        self.assertEqual(a & (b | c), (a & b) | (a & c))
        self.assertEqual(~(a | b), ~a & ~b)
        self.assertEqual(~~a, a)
        self.assertTrue((a & ~a).is_empty)
        self.assertTrue((a | ~a).is_any)

    @given(ranges)
    def test_the_shortest_text_means_the_same(self, a) -> None:
        text = range_text(a.intervals)
        if not a.is_empty:
            self.assertEqual(parse_range(text), a)
            self.assertLessEqual(
                len(parse_range(text).intervals), text.count("|") + text.count("!") + 1
            )

    @given(ranges, ranges)
    def test_subsets(self, a, b) -> None:
        self.assertTrue((a & b) <= a and a <= (a | b))
        self.assertEqual(a <= b and b <= a, a == b)


def begins(whole: list[int], first: list[int]) -> bool:
    return [*whole, 0, 0, 0, 0][: len(first)] == first


class FamilyTest(unittest.TestCase):
    """Whether a version lies in ``X.*``: exactly if it begins so; of X itself, no pre-release does."""

    @given(numbers, endings, numbers)
    def test_dotted(self, whole, ending, first) -> None:
        text, family = ".".join(map(str, whole)), ".".join(map(str, first))
        expected = begins(whole, first)
        if ending:
            expected &= not begins(first, whole) and any(whole[len(first) :])
        version = parse_version(f"{text}{ending}")
        self.assertEqual(version in parse_range(f"{family}.*"), expected)
        self.assertEqual(version in parse_range(f"!={family}.*"), not expected)

    @given(st.lists(st.integers(0, 11), min_size=3, max_size=3), endings, numbers)
    def test_semver(self, whole, ending, first) -> None:
        semver = Ordering("semver")
        first = first[:3]
        version = parse_version(".".join(map(str, whole)) + ending, semver)
        expected = begins(whole, first) and not (ending and not any(whole[len(first) :]))
        family = parse_range(".".join(map(str, first)) + ".*", semver)
        self.assertEqual(version in family, expected)
        self.assertEqual(version in ~family, not expected)

    @given(st.integers(2000, 2099), st.integers(1, 12), st.integers(1, 28), st.data())
    def test_calendar(self, year, month, day, data) -> None:
        calendar = Ordering("calendar")

        def written(*date: int) -> str:
            short = data.draw(st.booleans())
            return ".".join([f"{date[0] % 100:02}" if short else f"{date[0]}", *map(str, date[1:])])

        version = parse_version(written(year, month, day), calendar)
        first = [data.draw(st.sampled_from([year, year, 2000, 2099]))]
        first += [data.draw(st.sampled_from([month, 1, 12]))] if data.draw(st.booleans()) else []
        family = parse_range(f"{written(*first)}.*", calendar)
        expected = [year, month][: len(first)] == first
        self.assertEqual(version in family, expected)
        self.assertEqual(version in ~family, not expected)


class TextTest(unittest.TestCase):
    def test_what_a_person_would_write(self) -> None:
        for written, short in (
            (">=1.5, <1.7, >=1.2", ">=1.5, <1.7"),
            ("1 | 2 | >=1.5, <2", "1 | >=1.5, <2 | 2"),
            ("1 | >=1.5, <2 | >=2-, <3, <=2", "1 | >=1.5, <=2"),
            ("<2 | >2", "<2 | >2"),
            ("<=2, !=2 | >2", "!=2"),
            ("<=2, !=2", "<=2, !=2"),
            (">=2-, >=1", ">=2-"),
            ("<=1.6 | 1.6.*", "<=1.6 | 1.6.*"),
            ("!=2, !=3.1", "!=2, !=3.1"),
            ("1.6.*, >=1.2", "1.6.*"),
            ("1.6.*, >=1.6.2", ">=1.6.2, 1.6.*"),
            ("!=1.6.*", "!=1.6.*"),
            (">=1 | <2", "*"),
            (">2, <1", "nothing"),
            ("<1.6 | 1.6.*", "<1.6 | 1.6.*"),
        ):
            self.assertEqual(range_text(parse_range(written).intervals), short, written)
        self.assertEqual(str(parse_range(">=1") & parse_range("<2")), ">=1, <2")

    def test_other_orderings(self) -> None:
        for ordering, text, inside, outside in (
            (Ordering("semver"), "1.6.*", "1.6.9", "1.7.0-alpha"),
            (Ordering("semver"), "1.*", "1.9.0", "2.0.0"),
            (Ordering("semver"), "<2", "1.9.0", "2.0.0-alpha"),
            (Ordering("calendar"), "25.*", "25.3.2", "26.1"),
            (Ordering("calendar"), "25.*", "2025-12-31", "24.12"),
            (Ordering("calendar"), "2025.*", "25.3", "2026.1"),
            (Ordering("calendar"), "25.*, !=25.4.*", "25.5.1", "25.4.9"),
            (Ordering("decimal"), ">=2.05, <2.15", "2.1", "2.2"),
            (Ordering("calendar"), "2025.*", "2025-12-31", "2026-01-01"),
            (Ordering("calendar"), "2025-03.*", "2025-03-31", "2025-04-01"),
            (Ordering("serial"), ">400", "r412", "399"),
            (
                Ordering("listed", ("Neap Tide", "Spring Tide")),
                "> Neap Tide",
                "Spring Tide",
                "Neap Tide",
            ),
        ):
            range_ = parse_range(text, ordering)
            self.assertIn(parse_version(inside, ordering), range_, text)
            self.assertNotIn(parse_version(outside, ordering), range_, text)
        for scheme, text in (("decimal", "2.1.*"), ("serial", "4.*"), ("listed", "Neap Tide.*")):
            with self.assertRaises(RangeSyntaxError):
                parse_range(text, Ordering(scheme, ("Neap Tide",)))


class SyntaxTest(unittest.TestCase):
    def test_digits_are_those_of_ascii(self) -> None:
        for text in ("1.².*", "²", ">=1.٣", "1-²"):
            with self.assertRaises(RangeSyntaxError):
                parse_range(text)

    def test_a_prerelease_is_named_wherever_it_stands(self) -> None:
        for text in (
            ">=2-beta",
            ">=2.0-beta, <3",
            "<3, >=2-rc1",
            "1 | >=2-beta | 3",
            ">=2-",
            "2b1, *",
        ):
            opened = {parse_version("2").release_key}
            self.assertEqual(parse_range(text).opens, opened, text)
            self.assertEqual((parse_range("*") & parse_range(text)).opens, opened, text)
        self.assertFalse(parse_range(">=2, <3 | 4.*").opens)

    def test_membership(self) -> None:
        for text, inside, outside in (
            (">=1.5, <1.7", ("1.5", "1.6.9"), ("1.4.9", "1.7", "1.7.0")),
            ("1.6.*", ("1.6", "1.6.0", "1.6.12"), ("1.7", "1.6-beta", "1.7-beta", "1.5")),
            ("1.0.*", ("1.0", "1.0.3"), ("1.1", "1")[:1]),
            ("2", ("2", "2.0"), ("2.0.1",)),
            ("!=2.1", ("2", "2.2"), ("2.1.0",)),
            ("<1 | >=3, !=3.5", ("0.9", "3", "4"), ("1", "2", "3.5")),
            ("*", ("0", "99-beta"), ()),
            (">3, <2", (), ("1", "2.5", "4")),
            ("<2", ("1.9", "1.9-beta", "2-beta")[:2], ("2-beta", "2.0-rc1", "2")),
            (">=2-", ("2-alpha", "2", "3-beta"), ("1.9",)),
            ("<2-rc1", ("2-beta", "1"), ("2-rc1", "2")),
            ("<0", (), ("0", "0-beta", "1")),
        ):
            range_ = parse_range(text)
            for version in inside:
                self.assertIn(parse_version(version), range_, text)
            for version in outside:
                self.assertNotIn(parse_version(version), range_, text)

    def test_forms_of_other_tools_get_the_one_that_is_meant(self) -> None:
        for written, meant in (
            ("=>3", ">=3"), ("=< 3.1", "<=3.1"), ("^3.2", ">=3.2, <4"), ("~3.2", "3.2.*"),
            ("3.2+", ">=3.2"), ("3.x", "3.*"), ("latest", "*"), ("3 - 4", ">=3, <=4"),
            ("[1,2)", ">=1, <2"), ("mod@3.2", "3.2"),
        ):  # fmt: skip
            with self.assertRaises(RangeSyntaxError) as raised:
                parse_range(written)
            self.assertIn(f"write {meant!r}", str(raised.exception))
            parse_range(meant)

    def test_faults_know_their_spot(self) -> None:
        for text, position in (
            (">=1.5 <", 0),
            (">=1.5, <", 8),
            ("1.5,,2", 4),
            ("a b", 0),
            (">=1.*", 2),
        ):
            with self.assertRaises(RangeSyntaxError, msg=text) as caught:
                parse_range(text)
            self.assertEqual(caught.exception.position, position, text)
            self.assertIn("write e.g. '>=1.5, <1.7'", str(caught.exception))

    def test_too_long(self) -> None:
        with self.assertRaises(RangeSyntaxError):
            parse_range(",".join(["1"] * 201))


if __name__ == "__main__":
    unittest.main()
