"""Version ranges as sets of intervals.

Grammar, blanks allowed between all signs::

    range       = alternative { "|" alternative }
    alternative = term { "," term }
    term        = "*" | [ comparator ] version | [ "==" | "!=" ] version ".*" | ">=" version "-"
    comparator  = ">=" | ">" | "<=" | "<" | "==" | "=" | "!="

``,`` means and, ``|`` means or. ``1.6.*`` is every version that begins with 1.6, without the pre-releases of
1.6 itself. A bare version is exactly that version. ``<2`` holds nothing of 2, its pre-releases neither;
``>=2-`` begins with the first of those.

Inside, a range is a sorted tuple of intervals that neither touch nor overlap: one normal form for
each set, so that two ranges are equal exactly when they hold the same versions.
"""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Final

from rellum.core.versions.orderings import (
    CENTURY,
    DOTTED,
    LISTED,
    SHORT_YEAR,
    Ordering,
    parse_version,
)
from rellum.core.versions.version import (
    BEFORE_ALL_PART,
    NUMBER,
    PRE,
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
    which begins at the key ``family``. A key that ends before all parts lies before the pre-releases, too.
    """

    key: Key
    after: bool
    text: str = field(compare=False, default="")
    family: Key = field(compare=False, default=())

    @property
    def ends_family(self) -> bool:
        """Whether it lies before the first sign of what comes after ``1.6.*``."""
        return self.text.endswith(".*")

    @property
    def is_before_prereleases(self) -> bool:
        """Whether it lies before a version and its pre-releases."""
        return bool(self.key) and self.key[-1] == BEFORE_ALL_PART and not self.ends_family


LOWEST: Final = Cut((), False)
HIGHEST: Final = Cut(((99, 0, ""),), True)

Interval = tuple[Cut, Cut]


@dataclass(frozen=True, slots=True)
class Range:
    """A set of versions. Equality goes by the set; ``text`` is as it was written, or made.

    ``opens`` are the releases of which it names a pre-release, by what their versions' keys begin with.
    """

    intervals: tuple[Interval, ...]
    text: str = field(compare=False)
    opens: frozenset[Key] = field(compare=False, default=frozenset())

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
    return Range(intervals, range_text(intervals), one.opens | two.opens)


@lru_cache(maxsize=65536)
def parse_range(text: str, ordering: Ordering = DOTTED) -> Range:
    """Read a range under an ordering. Raises RangeSyntaxError, which knows the spot."""
    intervals: tuple[Interval, ...] = ()
    opens: frozenset[Key] = frozenset()
    position = 0
    terms = 0
    for alternative in text.split("|"):
        kept: tuple[Interval, ...] = ((LOWEST, HIGHEST),)
        for term in alternative.split(","):
            terms += 1
            if terms > MAX_TERMS:
                raise RangeSyntaxError(text, position, f"a range has at most {MAX_TERMS} terms")
            found, opened = _parse_term(term, text, position, ordering)
            kept = _intersection(kept, found)
            opens |= opened
            position += len(term) + 1
        intervals = _normal(intervals + kept)
    return Range(intervals, text.strip(), opens)


def _parse_term(
    term: str, whole: str, position: int, ordering: Ordering
) -> tuple[tuple[Interval, ...], frozenset[Key]]:
    """Read one term of the grammar above; say also of which release it names a pre-release."""
    match = _TERM.fullmatch(term)
    spot = position + len(term) - len(term.lstrip())
    if match is None:
        raise RangeSyntaxError(whole, spot, _advice(whole))
    sign, text = match["sign"], match["text"]
    spot = position + match.start("text")
    if text == "*" and sign is None:
        return ((LOWEST, HIGHEST),), frozenset()
    if sign is None and ordering.scheme != LISTED and _NO_VERSION.fullmatch(text):
        raise RangeSyntaxError(whole, spot, _advice(whole))
    opens: frozenset[Key] = frozenset()
    try:
        if text.endswith(".*") and sign in (None, "==", "=", "!=") and ordering.scheme != LISTED:
            found = _family(text, ordering)
        elif text.endswith("-") and sign == ">=" and ordering.scheme in _WITH_PRERELEASES:
            version = parse_version(text[:-1], ordering)
            found = ((_before_prereleases(version), HIGHEST),)
            opens = frozenset({version.release_key})
        else:
            version = parse_version(text, ordering)
            found = _comparison(sign or "==", version, ordering)
            opens = frozenset({version.release_key} if version.is_prerelease else ())
    except VersionSyntaxError as error:
        said = str(error) if ordering.scheme == LISTED else _advice(whole)
        raise RangeSyntaxError(whole, spot, said) from error
    return (_complement(found) if sign == "!=" else found), opens


def _advice(whole: str) -> str:
    """Say what is meant by a form that other tools know, else give an example."""
    for shape, meant in _MEANT:
        if match := shape.fullmatch(whole.strip()):
            return f"{whole!r} is not a range; write {meant(match)!r}"
    return f"{whole!r} is not a range; write e.g. '>=1.5, <1.7'"


def _next_first(version: str) -> str:
    """Return the first number after that of a version: 4 for 3.2."""
    return str(int(version.split(".")[0]) + 1)


_NUMBERS: Final = r"v?([0-9]+(?:\.[0-9]+)*)"
_NO_VERSION: Final = re.compile(r"latest|newest|any|v?[0-9.]+\.x", re.IGNORECASE)
"""What could be read as a version, and never is meant as one."""
_MEANT: Final[tuple[tuple[re.Pattern[str], Callable[[re.Match[str]], str]], ...]] = (
    (re.compile(rf"=>\s*{_NUMBERS}"), lambda m: f">={m[1]}"),
    (re.compile(rf"=<\s*{_NUMBERS}"), lambda m: f"<={m[1]}"),
    (re.compile(rf"\^\s*{_NUMBERS}"), lambda m: f">={m[1]}, <{_next_first(m[1])}"),
    (re.compile(rf"~>?=?\s*{_NUMBERS}"), lambda m: f"{m[1]}.*"),
    (re.compile(rf"{_NUMBERS}\s*\+"), lambda m: f">={m[1]}"),
    (re.compile(rf"{_NUMBERS}\.x", re.IGNORECASE), lambda m: f"{m[1]}.*"),
    (re.compile("latest|newest|any", re.IGNORECASE), lambda _: "*"),
    (re.compile(rf"{_NUMBERS}\s+(?:-|to)\s+{_NUMBERS}"), lambda m: f">={m[1]}, <={m[2]}"),
    (re.compile(rf"\[\s*{_NUMBERS}\s*,\s*{_NUMBERS}\s*\)"), lambda m: f">={m[1]}, <{m[2]}"),
    (re.compile(rf"\[\s*{_NUMBERS}\s*,\s*{_NUMBERS}\s*\]"), lambda m: f">={m[1]}, <={m[2]}"),
    (re.compile(rf"[a-z][a-z0-9-]*@\s*{_NUMBERS}", re.IGNORECASE), lambda m: m[1]),
)


def _before_prereleases(version: Version) -> Cut:
    """Return the cut before a version and its pre-releases; before 0 there is nothing."""
    key = version.release_key
    return Cut((*key, BEFORE_ALL_PART), False, version.text) if key else LOWEST


def _comparison(sign: str, version: Version, ordering: Ordering) -> tuple[Interval, ...]:
    before = Cut(version.key, False, version.text)
    after = Cut(version.key, True, version.text)
    if sign == ">=":
        return ((before, HIGHEST),)
    if sign == ">":
        return ((after, HIGHEST),)
    if sign == "<":
        has_more = ordering.scheme in _WITH_PRERELEASES and not version.is_prerelease
        return ((LOWEST, _before_prereleases(version) if has_more else before),)
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
        numbers[0] += CENTURY if len(pieces[0]) == SHORT_YEAR else 0
        lower: Key = tuple((NUMBER, number, "") for number in numbers)
    else:
        lower = parse_version(base, ordering).key
    above = [*numbers[:-1], numbers[-1] + 1]
    # As many numbers as the versions of that ordering have, so that the same set has the same cuts.
    least = {"semver": 3, "calendar": 3 if len(above) > 1 else 1}.get(ordering.scheme, 0)
    above += [0] * (least - len(above))
    upper = (*((NUMBER, number, "") for number in above), BEFORE_ALL_PART)
    return ((Cut(lower, False, base), Cut(upper, False, text, lower)),)


_WITH_PRERELEASES: Final = ("dotted", "semver", "decimal", "calendar")
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
    elif low.is_before_prereleases:
        terms = [f">={low.text}-"]
    elif low != LOWEST:
        terms = [f"{'>' if low.after else '>='}{low.text}"]
    if high.ends_family:
        base = high.text[:-2]
        if low < Cut(high.family, False):
            rest = ", ".join([*terms, f"<={base}"])
            return f"{rest} | {high.text}"
        terms.append(high.text)
    elif high.is_before_prereleases or _is_prerelease(high.key):
        terms.append(f"{'<=' if high.after else '<'}{high.text}")
    elif high != HIGHEST:
        terms.append(f"<={high.text}" if high.after else f"<={high.text}, !={high.text}")
    return ", ".join(terms)


def _is_prerelease(key: Key) -> bool:
    return any(part[0] == PRE for part in key)


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
