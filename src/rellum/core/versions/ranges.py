"""Version ranges as sets of intervals.

Grammar, blanks allowed between all signs::

    range      = alternative { "|" alternative }
    alternative = term { "," term }
    term       = "*" | comparator version | version [ ".*" ]
    comparator = ">=" | ">" | "<=" | "<" | "==" | "=" | "!="

``,`` means and, ``|`` means or. ``1.6.*`` is every version that begins with 1.6, without its
pre-releases. A bare version is exactly that version.

Inside, a range is a sorted tuple of intervals that neither touch nor overlap: one normal form for
each set, so that two ranges are equal exactly when they hold the same versions.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Final

from rellum.core.versions.version import (
    BEFORE_ALL_PART,
    DOTTED,
    END_PART,
    ZERO_PART,
    Key,
    Version,
    VersionSyntaxError,
    parse_version,
)

MAX_TERMS: Final = 200
_TERM = re.compile(r"\s*(?P<sign>>=|<=|==|!=|>|<|=)?\s*(?P<text>[^\s,|<>=!]*)\s*")


class RangeSyntaxError(ValueError):
    """A text is no range. ``position`` is the index of the first character that does not fit."""

    def __init__(self, text: str, position: int, message: str) -> None:
        super().__init__(message)
        self.text = text
        self.position = position


@dataclass(frozen=True, slots=True, order=True)
class _Cut:
    """A point between versions: just before the version ``key``, or just after it."""

    key: Key
    after: bool


_LOWEST: Final = _Cut((), False)
_HIGHEST: Final = _Cut(((99, 0, ""),), True)

Interval = tuple[_Cut, _Cut]


@dataclass(frozen=True, slots=True)
class Range:
    """A set of versions. Equality goes by the set; ``text`` is as it was written, or made."""

    intervals: tuple[Interval, ...]
    text: str = field(compare=False)
    names_prerelease: bool = field(compare=False, default=False)

    def __contains__(self, version: object) -> bool:
        if not isinstance(version, Version):
            return False
        cut = _Cut(version.key, False)
        return any(low <= cut < high for low, high in self.intervals)

    def __str__(self) -> str:
        return self.text

    @property
    def is_empty(self) -> bool:
        """Whether no version at all lies in it."""
        return not self.intervals

    @property
    def is_any(self) -> bool:
        """Whether every version lies in it."""
        return self.intervals == ((_LOWEST, _HIGHEST),)

    def __and__(self, other: Range) -> Range:
        return _joined(_intersection(self.intervals, other.intervals), self, other, ", ")

    def __or__(self, other: Range) -> Range:
        return _joined(_normal(self.intervals + other.intervals), self, other, " | ")

    def __invert__(self) -> Range:
        return Range(_complement(self.intervals), f"not ({self.text})", self.names_prerelease)


def _joined(intervals: tuple[Interval, ...], one: Range, two: Range, sign: str) -> Range:
    text = one.text if one.text == two.text else f"{one.text}{sign}{two.text}"
    return Range(intervals, text, one.names_prerelease or two.names_prerelease)


@lru_cache(maxsize=65536)
def parse_range(text: str, scheme: str = DOTTED) -> Range:
    """Read a range. Raises RangeSyntaxError, which knows the spot."""
    intervals: tuple[Interval, ...] = ()
    names_prerelease = False
    position = 0
    terms = 0
    for alternative in text.split("|"):
        kept: tuple[Interval, ...] = ((_LOWEST, _HIGHEST),)
        for term in alternative.split(","):
            terms += 1
            if terms > MAX_TERMS:
                raise RangeSyntaxError(text, position, f"a range has at most {MAX_TERMS} terms")
            found, is_pre = _parse_term(term, text, position, scheme)
            kept = _intersection(kept, found)
            names_prerelease |= is_pre
            position += len(term) + 1
        intervals = _normal(intervals + kept)
    return Range(intervals, text.strip(), names_prerelease)


def _parse_term(
    term: str, whole: str, position: int, scheme: str
) -> tuple[tuple[Interval, ...], bool]:
    """Read ``"*" | comparator version | version [ ".*" ]``."""
    match = _TERM.fullmatch(term)
    spot = position + len(term) - len(term.lstrip())
    if match is None:
        raise RangeSyntaxError(whole, spot, _advice(whole))
    sign, text = match["sign"], match["text"]
    if text == "*" and sign is None:
        return ((_LOWEST, _HIGHEST),), False
    wildcard = text.endswith(".*") and len(text) > 2
    try:
        version = parse_version(text[:-2] if wildcard else text, scheme)
    except VersionSyntaxError as error:
        raise RangeSyntaxError(whole, position + match.start("text"), _advice(whole)) from error
    if wildcard and sign not in (None, "==", "=", "!="):
        raise RangeSyntaxError(whole, spot, _advice(whole))
    found = _family(version) if wildcard else _comparison(sign or "==", version.key)
    return (_complement(found) if sign == "!=" else found), version.is_prerelease


def _advice(whole: str) -> str:
    return f"{whole!r} is not a range; write e.g. '>=1.5, <1.7'"


def _comparison(sign: str, key: Key) -> tuple[Interval, ...]:
    before, after = _Cut(key, False), _Cut(key, True)
    if sign == ">=":
        return ((before, _HIGHEST),)
    if sign == ">":
        return ((after, _HIGHEST),)
    if sign == "<":
        return ((_LOWEST, before),)
    if sign == "<=":
        return ((_LOWEST, after),)
    return ((before, after),)


def _family(version: Version) -> tuple[Interval, ...]:
    """All versions that begin with the given one: ``1.6`` to just before ``1.7``'s first sign."""
    *head, (kind, number, _) = version.key[:-1] or ((2, 0, ""),)
    if kind != ZERO_PART[0]:
        return _comparison("==", version.key)
    written = version.text.lower().removeprefix("v")
    # The key has lost trailing zeros ("1.0" is "1"); the family of 1.0.* must keep them.
    zeros = 0
    while written.endswith((".0", "_0", "-0")):
        written, zeros = written[:-2], zeros + 1
    if zeros:
        head = [*head, (kind, number, ""), *[(2, 0, "")] * (zeros - 1)]
        number = 0
    upper = (*head, (2, number + 1, ""), BEFORE_ALL_PART)
    return ((_Cut((*version.key[:-1], END_PART), False), _Cut(upper, False)),)


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
    start = _LOWEST
    for low, high in intervals:
        gaps.append((start, low))
        start = high
    gaps.append((start, _HIGHEST))
    return _normal(tuple(gaps))
