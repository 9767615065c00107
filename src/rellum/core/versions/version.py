"""Versions as mods really carry them, and the order between them.

The ``dotted`` ordering reads any number of parts with ``.``, ``_``, ``-`` or ``+`` between them and
a leading ``v``. Parts compare from the left:

* numbers by value; ``1.6`` and ``1.6.0`` are the same version;
* a word for something before the release (``alpha``, ``beta``, ``rc``, ``pre``, ``preview``,
  ``dev``, ``snapshot``, ``test``) comes before the release itself: ``2.0-beta.3 < 2.0``;
* any other word comes after it and before a further number: ``97.3.21 < 97.3.21b < 97.3.21.1``.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Final

DOTTED: Final = "dotted"
SCHEMES: Final = (DOTTED,)
"""The orderings a card can ask for by its ``versions`` key."""

MAX_LENGTH: Final = 100
"""Longest version text, in characters."""

Part = tuple[int, int, str]
Key = tuple[Part, ...]

# First member of a part: what kind of part it is. Kinds compare in this order.
BEFORE_ALL: Final = -2
_PRE: Final = -1
_END: Final = 0
_WORD: Final = 1
_NUMBER: Final = 2

END_PART: Final[Part] = (_END, 0, "")
BEFORE_ALL_PART: Final[Part] = (BEFORE_ALL, 0, "")
ZERO_PART: Final[Part] = (_NUMBER, 0, "")

_PRE_WORDS: Final = {
    "dev": 0,
    "snapshot": 0,
    "test": 0,
    "alpha": 1,
    "beta": 2,
    "pre": 3,
    "preview": 3,
    "rc": 4,
}
_SHAPE = re.compile(r"v?[0-9a-z]+(?:[._+-]+[0-9a-z]+)*\Z", re.IGNORECASE)
_PARTS = re.compile(r"[0-9]+|[a-z]+")


class VersionSyntaxError(ValueError):
    """A text is no version; the message says why."""


@dataclass(frozen=True, slots=True, order=True)
class Version:
    """One version. Equality and order go by ``key``; ``text`` is as the card's author wrote it."""

    key: Key
    text: str = field(compare=False)

    @property
    def is_prerelease(self) -> bool:
        """Whether a word such as ``beta`` puts it before a release."""
        return any(part[0] == _PRE for part in self.key)

    def __str__(self) -> str:
        return self.text


@lru_cache(maxsize=65536)
def parse_version(text: str, scheme: str = DOTTED) -> Version:
    """Read a version text under an ordering scheme. Raises VersionSyntaxError."""
    if scheme not in SCHEMES:
        raise VersionSyntaxError(f"{scheme!r} is not an ordering of versions")
    if len(text) > MAX_LENGTH:
        raise VersionSyntaxError(f"a version has at most {MAX_LENGTH} characters, not {len(text)}")
    if not text.isascii() or not _SHAPE.match(text):
        raise VersionSyntaxError(f"{text!r} is not a version; write e.g. '1.6.2' or '2.0-beta.3'")
    return Version(_dotted_key(text), text)


def _dotted_key(text: str) -> Key:
    parts: list[Part] = []
    for piece in _PARTS.findall(text.lower().removeprefix("v")):
        if piece.isdigit():
            parts.append((_NUMBER, int(piece), ""))
            continue
        while parts and parts[-1] == ZERO_PART:
            parts.pop()
        if piece in _PRE_WORDS:
            parts.append((_PRE, _PRE_WORDS[piece], ""))
        else:
            parts.append((_WORD, 0, piece))
    while parts and parts[-1] == ZERO_PART:
        parts.pop()
    return (*parts, END_PART)
