"""The question to the solver, and its answer."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from rellum.core.catalog.model import Catalog, Release, Trial
from rellum.core.catalog.release_rules import ChosenOptions, Source
from rellum.core.values.chosen_options import Options
from rellum.core.values.ids import ModId
from rellum.core.versions.ranges import Range
from rellum.core.versions.version import Version

Trust = Literal["declared", "tried"]


def are_chosen(wanted: ChosenOptions, options: Options) -> bool:
    """Whether all of these choices are among those that the line-up has."""
    chosen = dict(options)
    return all(choice in chosen.get(group, ()) for group, choice in wanted)


@dataclass(frozen=True, slots=True, kw_only=True)
class Want:
    """A mod that the pack asks for, with the range it allows and the options it chooses by group.

    An optional one is left out where it cannot be had; its range counts all the same.
    """

    mod: ModId
    range: Range
    source: Source
    optional: bool = False
    options: Options = ()


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
class Locked:
    """A release of the line-up that stands, with its options by group."""

    version: Version
    build: str = ""
    options: Options = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Problem:
    """Everything that a line-up depends on.

    ``games`` are the game versions allowed, the one preferred first; a fixed version is alone there.
    ``locked`` are the releases of the line-up that stands, in the order in which they are kept.
    ``trials`` count only for the versions that they name; ``works`` only where ``trust`` is "tried".
    """

    games: tuple[Version, ...]
    edition: str | None
    expansions: tuple[str, ...]
    wants: tuple[Want, ...]
    holds: tuple[Hold, ...]
    catalog: Catalog = field(hash=False, repr=False)
    trials: tuple[Trial, ...] = ()
    trust: Trust = "declared"
    locked: Mapping[ModId, Locked] = field(hash=False, default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Chosen:
    """One release of a line-up, with its options by group.

    ``because`` are the mods that need it; empty where it is wanted. ``trial`` is what it rests on
    where the game lies outside the range that it declares.
    """

    release: Release
    because: tuple[ModId, ...]
    options: Options = ()
    trial: Trial | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class LineUp:
    """The releases chosen, in load order, and the optional wants that could not be had."""

    game: Game
    chosen: tuple[Chosen, ...]
    left_out: tuple[Want, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Statement:
    """One thing that somebody said, in words, with the place where it stands."""

    text: str
    source: Source | None
