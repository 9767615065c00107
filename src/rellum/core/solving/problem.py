"""What is asked of the solver, and what it answers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from rellum.core.catalog.model import Mod, Release, Source
from rellum.core.ids import ModId
from rellum.core.versions.ranges import Range
from rellum.core.versions.version import Version


@dataclass(frozen=True, slots=True, kw_only=True)
class Want:
    """A mod that the pack asks for, with the range it allows."""

    mod: ModId
    range: Range
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class Hold:
    """A release that the curator pins, with a reason."""

    mod: ModId
    version: Version
    reason: str
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class Game:
    """The game that a line-up is for."""

    version: Version
    edition: str | None
    expansions: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Problem:
    """Everything that a line-up depends on.

    ``locked`` are the versions of the line-up that stands: they are kept where they still fit.
    """

    game: Game
    wants: tuple[Want, ...]
    holds: tuple[Hold, ...]
    mods: Mapping[ModId, Mod] = field(hash=False)
    locked: Mapping[ModId, Version] = field(hash=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class Chosen:
    """One release of a line-up. ``because`` are the mods that need it; empty where it is wanted."""

    release: Release
    because: tuple[ModId, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class LineUp:
    """The releases chosen, in load order."""

    game: Game
    chosen: tuple[Chosen, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Statement:
    """One thing that somebody said, in words, with the place where it stands."""

    text: str
    source: Source | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Refusal:
    """There is no line-up: these wants stand against each other by these statements."""

    wants: tuple[Want, ...]
    statements: tuple[Statement, ...]
