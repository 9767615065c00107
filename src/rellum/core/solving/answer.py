"""What the search is asked beside the cards, and what it answers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from rellum.core.solving.causes import Cause
from rellum.core.solving.clauses import Clause
from rellum.core.versions.version import Version


@dataclass(frozen=True, slots=True)
class Supposition:
    """A variable's value lies in a mask, because of something that the pack or the game says."""

    number: int
    mask: int
    cause: Cause


@dataclass(frozen=True, slots=True)
class Found:
    """A line-up as values: by variable, in the order in which they came in; and the game's version."""

    values: Mapping[int, int]
    game: Version


@dataclass(frozen=True, slots=True)
class NotFound:
    """No line-up: these clauses, each with its cause, cannot all be met. Not yet the fewest.

    ``supposed`` are those of the pack and the game, all of them; ``leaves`` those of the search's proof.
    ``steps`` is what the proof took, in looks at clauses.
    """

    supposed: tuple[Clause, ...]
    leaves: tuple[Clause, ...] = ()
    steps: int = 0

    @property
    def clauses(self) -> tuple[Clause, ...]:
        """All of them."""
        return (*self.supposed, *self.leaves)
