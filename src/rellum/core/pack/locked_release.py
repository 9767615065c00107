"""A line-up and its releases, as ``rellum.lock`` has them."""

from __future__ import annotations

from dataclasses import dataclass

from rellum.core.catalog.release_rules import ReleaseFile, Source
from rellum.core.values.chosen_options import Options
from rellum.core.values.ids import ModId, ReleaseName, SheetId
from rellum.core.versions.version import Version


@dataclass(frozen=True, slots=True, kw_only=True)
class LockedRelease:
    """One release of the line-up, its version as the card writes it.

    ``because`` are the mods that need it; empty: it is wanted. ``trial`` is what it rests on where
    the game lies outside the range that it declares; empty where it does not. ``check_by_hand`` are
    conditions outside Rellum's reach.
    """

    mod: ModId
    version: str
    build: str = ""
    because: tuple[ModId, ...]
    options: Options = ()
    trial: str = ""
    files: tuple[ReleaseFile, ...]
    source: Source
    check_by_hand: tuple[str, ...] = ()

    @property
    def name(self) -> ReleaseName:
        """Which release it is."""
        return ReleaseName(self.mod, self.version, self.build)

    @property
    def label(self) -> str:
        """Its version, with its build where it has one: ``3.2 (harbour)``."""
        return f"{self.version} ({self.build})" if self.build else self.version


GRAFT = "graft"
"""Stands for the version where a layer is a graft's."""


@dataclass(frozen=True, slots=True, kw_only=True)
class LockedGraft:
    """One graft of the line-up: its slot as it is written, and a hash over all that is said of it."""

    mod: ModId
    slot: str
    said: str

    @property
    def name(self) -> ReleaseName:
        """By which name its files are laid."""
        return ReleaseName(self.mod, GRAFT, "")

    @property
    def label(self) -> str:
        """What it is, in words: two that differ differ in these."""
        return f"{GRAFT} into {self.slot} ({self.said[:6]})"


@dataclass(frozen=True, slots=True, kw_only=True)
class LockFile:
    """What ``rellum.lock`` says; the releases in load order.

    ``asked`` is a hash over what the pack asked for: as long as it is the same the line-up stands.
    """

    asked: str
    sheet: SheetId
    game_version: Version
    edition: str | None
    expansions: tuple[str, ...]
    releases: tuple[LockedRelease, ...]
    grafts: tuple[LockedGraft, ...] = ()

    @property
    def names(self) -> tuple[ReleaseName, ...]:
        """What has files in the game once this is laid: releases in load order, then grafts."""
        return (*(each.name for each in self.releases), *(each.name for each in self.grafts))
