"""Grafts: whether what a donor gives, under the slot's names, has the slot's shape."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from rellum.core.values.paths import PlacePath


@dataclass(frozen=True, slots=True, kw_only=True)
class Shape:
    """A graft's files against those that the slot had.

    ``provided`` stand for one of the slot's; ``extra`` are more than it had; ``missing`` are the slot's
    files that the graft has nothing for.
    """

    graft: str
    provided: tuple[PlacePath, ...]
    extra: tuple[PlacePath, ...]
    missing: tuple[PlacePath, ...]


def shape_of(graft: str, slot: Collection[PlacePath], given: Collection[PlacePath]) -> Shape:
    """Compare what a graft gives with what the slot had."""
    had, gives = set(slot), set(given)
    return Shape(
        graft=graft,
        provided=tuple(sorted(had & gives)),
        extra=tuple(sorted(gives - had)),
        missing=tuple(sorted(had - gives)),
    )
