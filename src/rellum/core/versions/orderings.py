"""Reading and comparing version texts: one function for each ordering that a card can choose.

``dotted``
    Any number of parts with ``.``, ``_``, ``-`` or ``+`` between them and a leading ``v``. Numbers by
    value, ``1.6`` and ``1.6.0`` are the same version; a word for something before the release
    (``alpha``, ``beta``, ``rc`` …, also ``1.0b2``) comes before it: ``2.0-beta.3 < 2.0``; any other
    word after it and before a further number: ``97.3.21 < 97.3.21b < 97.3.21.1``.
``semver``
    The precedence of Semantic Versioning 2.0.0, build metadata left out of it. A leading ``v`` and
    missing minor and patch numbers are let through, as mods have them.
``decimal``
    What follows the first point is a fraction: ``2.05 < 2.1 < 2.15 < 2.2``. Words as in ``dotted``.
``calendar``
    Year, month and perhaps day, then whatever follows: ``2025-03-02``, ``20250302``, ``2025.03.02.1``.
``serial``
    One whole number, perhaps with a word before it: ``412``, ``r412``, ``build 412``.
``listed``
    Names, in the order in which the card lists its releases, the oldest first.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Final

from rellum.core.versions.version import (
    END_PART,
    MAX_LENGTH,
    NUMBER,
    PRE,
    WORD,
    ZERO_PART,
    Key,
    Part,
    Version,
    VersionSyntaxError,
)

LISTED: Final = "listed"

_PRE_WORDS: Final = {
    "dev": 0,
    "snapshot": 0,
    "nightly": 0,
    "canary": 0,
    "experimental": 0,
    "test": 0,
    "alpha": 1,
    "milestone": 1,
    "beta": 2,
    "pre": 3,
    "preview": 3,
    "rc": 4,
}
_GLUED: Final = re.compile(r"(?<=[0-9])(a|b)(?=[0-9])|(?<=[._+-])m(?=[0-9])")
"""``1.0a1`` and ``1.0b2`` are before 1.0, as in PEP 440, and so is ``1.0-m1``; a letter alone (``1.0b``) is
after it.
"""
_GLUED_WORDS: Final = {"a": "alpha", "b": "beta", "m": "milestone"}
_SHAPE = re.compile(r"v?[0-9a-z]+(?:[._+-]+[0-9a-z]+)*", re.IGNORECASE)
_PARTS = re.compile(r"[0-9]+|[a-z]+")
_SEMVER = re.compile(
    r"v?(0|[1-9]\d*)(?:\.(0|[1-9]\d*))?(?:\.(0|[1-9]\d*))?"
    r"(?:-((?:0|[1-9]\d*|\d*[a-z-][0-9a-z-]*)(?:\.(?:0|[1-9]\d*|\d*[a-z-][0-9a-z-]*))*))?"
    r"(?:\+[0-9a-z-]+(?:\.[0-9a-z-]+)*)?",
    re.IGNORECASE | re.ASCII,
)
_DECIMAL = re.compile(r"v?([0-9]+)(?:[.,]([0-9]+))?((?:[._+-]*[0-9a-z]+)*)", re.IGNORECASE)
_CALENDAR = re.compile(
    r"([0-9]{4}|[0-9]{2})[._-]?([0-9]{2}|(?<=[._-])[0-9])(?:[._-]?([0-9]{2}|(?<=[._-])[0-9]))?"
    r"((?:[._+-]*[0-9a-z]+)*)",
    re.IGNORECASE,
)
CENTURY: Final = 2000
"""What is added to a year that is written with SHORT_YEAR digits."""
SHORT_YEAR: Final = 2
_SERIAL = re.compile(r"(?:[a-z]+[ ._-]?)?([0-9]+)", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Ordering:
    """An ordering of versions. ``names`` are the versions of ``listed``, the oldest first."""

    scheme: str
    names: tuple[str, ...] = ()


def parse_version(text: str, ordering: Ordering | None = None) -> Version:
    """Read a version text under an ordering (``dotted`` if none is given). Raises VersionSyntaxError."""
    return _parse(text, ordering or DOTTED)


@lru_cache(maxsize=65536)
def _parse(text: str, ordering: Ordering) -> Version:
    if len(text) > MAX_LENGTH:
        raise VersionSyntaxError(f"a version has at most {MAX_LENGTH} characters, not {len(text)}")
    if ordering.scheme == LISTED:
        return Version(_listed_key(text, ordering.names), text)
    make_key, example = _SCHEMES[ordering.scheme]
    key = make_key(text) if text.isascii() else None
    if key is None:
        raise VersionSyntaxError(f"{text!r} is not a version; write e.g. {example}")
    return Version(key, text)


def _dotted_key(text: str) -> Key | None:
    if not _SHAPE.fullmatch(text):
        return None
    parts: list[Part] = []
    for part in _loose_parts(text.lower().removeprefix("v")):
        if part[0] != NUMBER:
            _strip_zeros(parts)
        parts.append(part)
    _strip_zeros(parts)
    return (*parts, END_PART)


def _loose_parts(text: str) -> list[Part]:
    """Read numbers and words, whatever stands between them."""
    parts: list[Part] = []
    plain = _GLUED.sub(lambda found: _GLUED_WORDS[found[0]], text.lower())
    for piece in _PARTS.findall(plain):
        if piece.isdigit():
            parts.append((NUMBER, int(piece), ""))
        elif piece in _PRE_WORDS:
            parts.append((PRE, _PRE_WORDS[piece], ""))
        else:
            parts.append((WORD, 0, piece))
    return parts


def _strip_zeros(parts: list[Part]) -> None:
    """Take off zeros at the end, so that 1.6 and 1.6.0 are the same."""
    while parts and parts[-1] == ZERO_PART:
        parts.pop()


def _semver_key(text: str) -> Key | None:
    """Semantic Versioning 2.0.0, item 11."""
    match = _SEMVER.fullmatch(text)
    if match is None:
        return None
    parts: list[Part] = [(NUMBER, int(number or 0), "") for number in match.group(1, 2, 3)]
    if match[4]:
        parts.append((PRE, 0, ""))
        for field in match[4].split("."):
            parts.append((WORD, int(field), "") if field.isdigit() else (NUMBER, 0, field))
    return (*parts, END_PART)


def _decimal_key(text: str) -> Key | None:
    match = _DECIMAL.fullmatch(text)
    if match is None:
        return None
    # Digits of a fraction compare as text: .05 < .1 < .15 < .2
    fraction = (match[2] or "").rstrip("0")
    return (
        (NUMBER, int(match[1]), ""),
        (NUMBER, 0, fraction),
        *_loose_parts(match[3]),
        END_PART,
    )


def _calendar_key(text: str) -> Key | None:
    match = _CALENDAR.fullmatch(text)
    if match is None:
        return None
    year, month, day = int(match[1]), int(match[2]), int(match[3] or 0)
    if not (1 <= month <= 12 and 0 <= day <= 31):
        return None
    rest = _loose_parts(match[4])
    _strip_zeros(rest)
    century = CENTURY if len(match[1]) == SHORT_YEAR else 0
    return (
        (NUMBER, year + century, ""),
        (NUMBER, month, ""),
        (NUMBER, day, ""),
        *rest,
        END_PART,
    )


def _serial_key(text: str) -> Key | None:
    match = _SERIAL.fullmatch(text)
    return None if match is None else ((NUMBER, int(match[1]), ""), END_PART)


def _listed_key(text: str, names: tuple[str, ...]) -> Key:
    if text not in names:
        known = ", ".join(repr(name) for name in names[:8]) or "none"
        raise VersionSyntaxError(f"{text!r} is no release that the card lists; it lists {known}")
    return ((NUMBER, names.index(text), ""), END_PART)


_SCHEMES: Final[dict[str, tuple[Callable[[str], Key | None], str]]] = {
    "dotted": (_dotted_key, "'1.6.2' or '2.0-beta.3'"),
    "semver": (_semver_key, "'1.6.2' or '2.0.0-beta.3'"),
    "decimal": (_decimal_key, "'2.05' or '2.1'"),
    "calendar": (_calendar_key, "'2025-03-02'"),
    "serial": (_serial_key, "'412'"),
}
SCHEMES: Final = (*_SCHEMES, LISTED)
"""The orderings a card can ask for by its ``versions`` key."""

DOTTED: Final = Ordering("dotted")
