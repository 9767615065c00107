"""Ranges that mods write about themselves, against reference sets that know nothing of Rellum's ranges."""

from __future__ import annotations

import itertools
import unittest
from collections.abc import Callable

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.describing.notations import MOST_SIGNS, NOTATIONS, Notation, NotRead, translate
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.ranges import parse_range

Triple = tuple[int, int, int]
ALL: list[Triple] = list(itertools.product(range(4), range(4), range(4)))
"""Every version that the references are compared on."""


def read_as(text: str, notation: str) -> set[Triple]:
    try:
        found = parse_range(translate(text, Notation(notation)))
    except NotRead as error:
        if "no version at all" in str(error):
            return set()
        raise
    return {each for each in ALL if parse_version(".".join(map(str, each))) in found}


def written(version: tuple[int, ...]) -> str:
    return ".".join(map(str, version))


def padded(version: tuple[int, ...]) -> Triple:
    first, second, third = (*version, 0, 0, 0)[:3]
    return first, second, third


def begins(version: Triple, part: tuple[int, ...]) -> bool:
    return version[: len(part)] == part


parts = st.lists(st.integers(0, 3), min_size=1, max_size=3).map(tuple)
COMPARE: dict[str, Callable[[Triple, Triple], bool]] = {
    ">=": lambda one, other: one >= other,
    "<=": lambda one, other: one <= other,
    ">": lambda one, other: one > other,
    "<": lambda one, other: one < other,
    "!=": lambda one, other: one != other,
    "==": lambda one, other: one == other,
}


class NotationsTest(unittest.TestCase):
    @given(st.lists(st.tuples(st.sampled_from(sorted(COMPARE)), parts), min_size=1, max_size=3),
           st.sampled_from([", ", " ", ","]))  # fmt: skip
    def test_comparators_are_what_they_say(
        self, terms: list[tuple[str, tuple[int, ...]]], between: str
    ) -> None:
        text = between.join(f"{sign}{written(version)}" for sign, version in terms)
        expected = {
            each for each in ALL if all(COMPARE[sign](each, padded(v)) for sign, v in terms)
        }
        self.assertEqual(read_as(text, "comparators"), expected, text)

    @given(st.lists(st.integers(0, 3), min_size=2, max_size=3).map(tuple))
    def test_compatible_is_at_least_and_the_same_but_for_the_last(
        self, version: tuple[int, ...]
    ) -> None:
        expected = {e for e in ALL if e >= padded(version) and begins(e, version[:-1])}
        self.assertEqual(read_as(f"~={written(version)}", "comparators"), expected)

    @given(st.lists(st.tuples(st.sampled_from(["^", "~", "", "x", ">=", "<"]), parts),
                    min_size=1, max_size=3))  # fmt: skip
    def test_semver_terms_are_what_they_say(self, terms: list[tuple[str, tuple[int, ...]]]) -> None:
        def holds(version: Triple, sign: str, part: tuple[int, ...]) -> bool:
            if sign == "^":
                fixed = next((n for n, number in enumerate(part) if number), len(part) - 1) + 1
                return version >= padded(part) and begins(version, part[:fixed])
            if sign == "~":
                return version >= padded(part) and begins(version, part[:2])
            if sign in (">=", "<"):
                return COMPARE[sign](version, padded(part))
            return begins(version, part[:2] if sign == "x" else part)

        texts = [
            f"{written(part[:2])}.x" if sign == "x" else f"{sign}{written(part)}"
            for sign, part in terms
        ]
        expected = {each for each in ALL if any(holds(each, *term) for term in terms)}
        self.assertEqual(read_as(" || ".join(texts), "semver"), expected, texts)

    @given(parts, parts)
    def test_a_hyphen_joins_two_ends(self, low: tuple[int, ...], high: tuple[int, ...]) -> None:
        top = padded(high) if len(high) == 3 else None
        expected = {
            each
            for each in ALL
            if each >= padded(low)
            and (each <= top if top else each[: len(high)] <= high)
        }  # fmt: skip
        if padded(low) <= (top or (*high, 9, 9, 9)[:3]):
            self.assertEqual(read_as(f"{written(low)} - {written(high)}", "semver"), expected)

    @given(st.sampled_from("[("), parts, parts, st.sampled_from("])"))
    def test_intervals(
        self, begin: str, low: tuple[int, ...], high: tuple[int, ...], end: str
    ) -> None:
        if padded(low) >= padded(high):
            return
        expected = {
            each
            for each in ALL
            if (each >= padded(low) if begin == "[" else each > padded(low))
            and (each <= padded(high) if end == "]" else each < padded(high))
        }
        text = f"{begin}{written(low)},{written(high)}{end}"
        self.assertEqual(read_as(text, "intervals"), expected, text)

    def test_plain_versions(self) -> None:
        for notation, expected in (
            ("at-least", {each for each in ALL if each >= (1, 2, 0)}),
            ("exactly", {(1, 2, 0)}),
            ("beginning", {each for each in ALL if each[:2] == (1, 2)}),
        ):
            self.assertEqual(read_as("1.2", notation), expected, notation)

    def test_what_is_no_range_is_never_guessed(self) -> None:
        for notation, text in (
            ("comparators", "any of the newer ones"), ("comparators", "~=1"), ("comparators", ">= "),
            ("semver", ">=1.x"), ("semver", "^1.y"), ("semver", "latest"),
            ("intervals", "[1.0,2.0"), ("intervals", "(1.0)"), ("intervals", "[2.0,1.0] nonsense"),
            ("at-least", "1.0 or so"), ("exactly", ">=1"), ("beginning", "?"),
            ("comparators", ">=1." + "0" * MOST_SIGNS), ("semver", "1" * (MOST_SIGNS + 1)),
        ):  # fmt: skip
            with self.subTest(f"{notation}: {text[:40]}"), self.assertRaises(NotRead):
                translate(text, Notation(notation))

    @given(st.sampled_from(sorted(NOTATIONS)),
           st.one_of(st.text(max_size=60), st.text("0123456789.<>=~^|x*[](), -v", max_size=40)))  # fmt: skip
    def test_any_text_is_read_or_refused(self, notation: Notation, text: str) -> None:
        try:
            parse_range(translate(text, notation))
        except NotRead:
            pass


if __name__ == "__main__":
    unittest.main()
