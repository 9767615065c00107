"""Versions: a text as the mod's author wrote it, and a key that says where it stands in the order.

An ordering says what a text means (``rellum.core.versions.orderings``). Keys are made of parts
so that all orderings compare alike: part by part from the left, first by what kind of part it is.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Final

MAX_LENGTH: Final = 100
"""Longest version text, in characters."""

Part = tuple[int, int, str]
"""Kind, number, word."""
Key = tuple[Part, ...]

# Kinds of parts, in the order in which they compare.
_BEFORE_ALL: Final = -2
PRE: Final = -1
_END: Final = 0
WORD: Final = 1
NUMBER: Final = 2

END_PART: Final[Part] = (_END, 0, "")
"""Ends a key: a version comes after its pre-releases and before everything longer."""
BEFORE_ALL_PART: Final[Part] = (_BEFORE_ALL, 0, "")
"""Before every version that begins like this, its pre-releases too."""
ZERO_PART: Final[Part] = (NUMBER, 0, "")


class VersionSyntaxError(ValueError):
    """A text is no version under its ordering; the message says why."""


@dataclass(frozen=True, slots=True, order=True)
class Version:
    """One version. Equality and order go by ``key``; ``text`` is as the card's author wrote it."""

    key: Key
    text: str = field(compare=False)

    @property
    def is_prerelease(self) -> bool:
        """Whether a word such as ``beta`` puts it before a release."""
        return any(part[0] == PRE for part in self.key)

    @property
    def release_key(self) -> Key:
        """What it and the pre-releases of the same release begin with: of 2.0 and 2.0-beta the same."""
        at = next((at for at, part in enumerate(self.key) if part[0] == PRE), len(self.key) - 1)
        return self.key[:at]

    def __str__(self) -> str:
        return self.text
