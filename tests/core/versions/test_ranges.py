"""Ranges: the laws of set algebra, and the syntax."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.versions.ranges import RangeSyntaxError, parse_range
from rellum.core.versions.version import parse_version
from tests.core.versions.test_version import texts, versions

terms = st.one_of(
    st.just("*"),
    st.tuples(st.sampled_from([">=", ">", "<=", "<", "==", "!=", ""]), texts).map("".join),
    st.lists(st.integers(0, 9).map(str), min_size=1, max_size=3).map(lambda n: ".".join(n) + ".*"),
)
alternatives = st.lists(terms, min_size=1, max_size=3).map(", ".join)
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


class SyntaxTest(unittest.TestCase):
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
        ):
            range_ = parse_range(text)
            for version in inside:
                self.assertIn(parse_version(version), range_, text)
            for version in outside:
                self.assertNotIn(parse_version(version), range_, text)

    def test_faults_know_their_spot(self) -> None:
        for text, position in (
            (">=1.5 <", 0),
            (">=1.5, <", 8),
            ("1.5,,2", 4),
            ("a b", 0),
            (">=1.*", 0),
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
