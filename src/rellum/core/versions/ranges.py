"""Version ranges as sets of intervals.

Grammar, blanks allowed between all signs::

    range       = alternative { "|" alternative }
    alternative = term { "," term }
    term        = "*" | [ comparator ] version | [ "==" | "!=" ] version ".*"
    comparator  = ">=" | ">" | "<=" | "<" | "==" | "=" | "!="

``,`` means and, ``|`` means or. ``1.6.*`` is every version that begins with 1.6, without its
pre-releases. A bare version is exactly that version.

Inside, a range is a sorted tuple of intervals that neither touch nor overlap: one normal form for
each set, so that two ranges are equal exactly when they hold the same versions.
"""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Final

from rellum.core.versions.orderings import DOTTED, LISTED, Ordering, parse_version
from rellum.core.versions.version import (
    BEFORE_ALL_PART,
    NUMBER,
    Key,
    Version,
    VersionSyntaxError,
)

MAX_TERMS: Final = 200
_TERM = re.compile(r"\s*(?P<sign>>=|<=|==|!=|>|<|=)?\s*(?P<text>[^,|<>=!]*?)\s*")


class RangeSyntaxError(ValueError):
    """A text is no range. ``position`` is the index of the first character that does not fit."""

    def __init__(self, text: str, position: int, message: str) -> None:
        super().__init__(message)
        self.text = text
        self.position = position


@dataclass(frozen=True, slots=True, order=True)
class Cut:
    """A point between versions: just before the version ``key``, or just after it.

    ``text`` is what the cut was written as: a version, or ``1.6.*`` for the end of that family,
    which begins at the key ``family``.
    """

    key: Key
    after: bool
    text: str = field(compare=False, default="")
    family: Key = field(compare=False, default=())

    @property
    def ends_family(self) -> bool:
        """Whether it lies before the first sign of what comes after ``1.6.*``."""
        return self.text.endswith(".*")


LOWEST: Final = Cut((), False)
HIGHEST: Final = Cut(((99, 0, ""),), True)

Interval = tuple[Cut, Cut]


@dataclass(frozen=True, slots=True)
class Range:
    """A set of versions. Equality goes by the set; ``text`` is as it was written, or made."""

    intervals: tuple[Interval, ...]
    text: str = field(compare=False)
    names_prerelease: bool = field(compare=False, default=False)

    def __contains__(self, version: object) -> bool:
        if not isinstance(version, Version):
            return False
        cut = Cut(version.key, False)
        return any(low <= cut < high for low, high in self.intervals)

    def __str__(self) -> str:
        return self.text

    def spans(self, keys: Sequence[Key]) -> list[tuple[int, int]]:
        """Return which of some sorted version keys lie in it, as (start, stop) of slices."""
        found = []
        for low, high in self.intervals:
            start = (bisect_right if low.after else bisect_left)(keys, low.key)
            stop = (bisect_right if high.after else bisect_left)(keys, high.key)
            if start < stop:
                found.append((start, stop))
        return found

    @property
    def is_empty(self) -> bool:
        """Whether no version at all lies in it."""
        return not self.intervals

    @property
    def is_any(self) -> bool:
        """Whether every version lies in it."""
        return self.intervals == ((LOWEST, HIGHEST),)

    def __and__(self, other: Range) -> Range:
        return _made(_intersection(self.intervals, other.intervals), self, other)

    def __or__(self, other: Range) -> Range:
        return _made(_normal(self.intervals + other.intervals), self, other)

    def __invert__(self) -> Range:
        return _made(_complement(self.intervals), self, self)

    def __le__(self, other: Range) -> bool:
        """Whether every version of this range lies in the other too."""
        return (self & ~other).is_empty


def _made(intervals: tuple[Interval, ...], one: Range, two: Range) -> Range:
    """Return a range that was computed, with the shortest text for it."""
    return Range(intervals, range_text(intervals), one.names_prerelease or two.names_prerelease)


@lru_cache(maxsize=65536)
def parse_range(text: str, ordering: Ordering = DOTTED) -> Range:
    """Read a range under an ordering. Raises RangeSyntaxError, which knows the spot."""
    intervals: tuple[Interval, ...] = ()
    names_prerelease = False
    position = 0
    terms = 0
    for alternative in text.split("|"):
        kept: tuple[Interval, ...] = ((LOWEST, HIGHEST),)
        for term in alternative.split(","):
            terms += 1
            if terms > MAX_TERMS:
                raise RangeSyntaxError(text, position, f"a range has at most {MAX_TERMS} terms")
            found, is_pre = _parse_term(term, text, position, ordering)
            kept = _intersection(kept, found)
            names_prerelease |= is_pre
            position += len(term) + 1
        intervals = _normal(intervals + kept)
    return Range(intervals, text.strip(), names_prerelease)


def _parse_term(
    term: str, whole: str, position: int, ordering: Ordering
) -> tuple[tuple[Interval, ...], bool]:
    """Read one term of the grammar above; say also whether it names a pre-release."""
    match = _TERM.fullmatch(term)
    spot = position + len(term) - len(term.lstrip())
    if match is None:
        raise RangeSyntaxError(whole, spot, _advice(whole))
    sign, text = match["sign"], match["text"]
    spot = position + match.start("text")
    if text == "*" and sign is None:
        return ((LOWEST, HIGHEST),), False
    try:
        if text.endswith(".*") and sign in (None, "==", "=", "!=") and ordering.scheme != LISTED:
            found, is_pre = _family(text, ordering), False
        else:
            version = parse_version(text, ordering)
            found, is_pre = _comparison(sign or "==", version), version.is_prerelease
    except VersionSyntaxError as error:
        said = str(error) if ordering.scheme == LISTED else _advice(whole)
        raise RangeSyntaxError(whole, spot, said) from error
    return (_complement(found) if sign == "!=" else found), is_pre


def _advice(whole: str) -> str:
    return f"{whole!r} is not a range; write e.g. '>=1.5, <1.7'"


def _comparison(sign: str, version: Version) -> tuple[Interval, ...]:
    before = Cut(version.key, False, version.text)
    after = Cut(version.key, True, version.text)
    if sign == ">=":
        return ((before, HIGHEST),)
    if sign == ">":
        return ((after, HIGHEST),)
    if sign == "<":
        return ((LOWEST, before),)
    if sign == "<=":
        return ((LOWEST, after),)
    return ((before, after),)


def _family(text: str, ordering: Ordering) -> tuple[Interval, ...]:
    """All versions that begin with the numbers of ``1.6.*``: to just before 1.7's first sign.

    Raises VersionSyntaxError where versions are not made of numbers that begin one another.
    """
    base = text[:-2]
    pieces = re.split(r"[._-]", base.lower().removeprefix("v"))
    if ordering.scheme not in _WITH_FAMILIES or not all(
        each.isascii() and each.isdigit() for each in pieces
    ):
        raise VersionSyntaxError(f"{text!r} has no meaning among {ordering.scheme} versions")
    numbers = [int(piece) for piece in pieces]
    if ordering.scheme == "calendar":
        parts = [(NUMBER, number, "") for number in numbers]
        lower: Key = tuple(parts)
    else:
        lower = parse_version(base, ordering).key
    upper = (*((NUMBER, n, "") for n in numbers[:-1]), (NUMBER, numbers[-1] + 1, ""))
    return ((Cut(lower, False, base), Cut((*upper, BEFORE_ALL_PART), False, text, lower)),)


_WITH_FAMILIES: Final = ("dotted", "semver", "calendar")


def range_text(intervals: tuple[Interval, ...]) -> str:
    """Return the shortest text that a person would write for a set of versions.

    The empty set, for which there is none, is ``nothing``.
    """
    if not intervals:
        return "nothing"
    if intervals == ((LOWEST, HIGHEST),):
        return "*"
    gaps = _complement(intervals)
    if all(_atom(gap) for gap in gaps):
        excluded = ", ".join(f"!={_atom(gap)}" for gap in gaps)
        if len(gaps) <= len(intervals):
            return excluded
    return " | ".join(map(_interval_text, intervals))


def _atom(interval: Interval) -> str:
    """Return an interval as a single version or family, or an empty text where it is neither."""
    low, high = interval
    if low.key == high.key and not low.after and high.after:
        return low.text
    return high.text if high.ends_family and high.text[:-2] == low.text and not low.after else ""


def _interval_text(interval: Interval) -> str:
    low, high = interval
    if atom := _atom(interval):
        return atom
    terms = []
    if low.ends_family:
        terms = [f">={low.text[:-2]}", f"!={low.text}"]
    elif low != LOWEST:
        terms = [f"{'>' if low.after else '>='}{low.text}"]
    if high.ends_family:
        base = high.text[:-2]
        if low < Cut(high.family, False):
            rest = ", ".join([*terms, f"<{base}"])
            return f"{rest} | {high.text}"
        terms.append(high.text)
    elif high != HIGHEST:
        terms.append(f"{'<=' if high.after else '<'}{high.text}")
    return ", ".join(terms)


def _normal(intervals: tuple[Interval, ...]) -> tuple[Interval, ...]:
    """Sort, drop the empty, join those that touch or overlap."""
    joined: list[Interval] = []
    for low, high in sorted(each for each in intervals if each[0] < each[1]):
        if joined and low <= joined[-1][1]:
            joined[-1] = (joined[-1][0], max(high, joined[-1][1]))
        else:
            joined.append((low, high))
    return tuple(joined)


def _intersection(ones: tuple[Interval, ...], twos: tuple[Interval, ...]) -> tuple[Interval, ...]:
    return _normal(
        tuple((max(one[0], two[0]), min(one[1], two[1])) for one in ones for two in twos)
    )


def _complement(intervals: tuple[Interval, ...]) -> tuple[Interval, ...]:
    gaps: list[Interval] = []
    start = LOWEST
    for low, high in intervals:
        gaps.append((start, low))
        start = high
    gaps.append((start, HIGHEST))
    return _normal(tuple(gaps))
