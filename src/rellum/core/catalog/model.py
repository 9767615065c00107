"""What a catalog says, as plain immutable values.

``key`` fields (``("release", 1, "needs", "keelson")``) are the way back to the line of the TOML
file on which a statement stands; ``rellum.core.catalog.toml_lines`` finds that line when a message
needs it, so that reading a catalog does not pay for it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from rellum.core.ids import ModId, SheetId
from rellum.core.paths import PlacePath
from rellum.core.versions.orderings import DOTTED, Ordering
from rellum.core.versions.ranges import Range
from rellum.core.versions.version import Version

KeyPath = tuple[str | int, ...]

Kind = Literal["mod", "library", "loader", "resource-pack"]
KINDS: tuple[Kind, ...] = ("mod", "library", "loader", "resource-pack")


@dataclass(frozen=True, slots=True, kw_only=True)
class Source:
    """Where a statement stands: a TOML file and the keys that lead to it."""

    file: str
    key: KeyPath = ()

    def at(self, *keys: str | int) -> Source:
        """Return the source of something inside this one."""
        return Source(file=self.file, key=self.key + keys)


@dataclass(frozen=True, slots=True, kw_only=True)
class Requirement:
    """A release's statement about another mod: it needs it, or clashes with it, in a range."""

    mod: ModId
    range: Range
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class ReleaseFile:
    """An archive of a release. ``size`` is in bytes, None where the card does not tell."""

    name: str
    size: int | None
    sha256: str | None
    blake3: str | None
    urls: tuple[str, ...]
    by_hand: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaceRule:
    """Which members of the archives go where.

    ``take`` is a glob over the archive's members; what stands before its first wildcard is not
    part of the path under ``to``. ``expect`` names files and folders (with a trailing slash) that
    must be found there.
    """

    take: str
    to: PlacePath
    expect: tuple[str, ...]
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class Release:
    """One version of a mod. ``game``, ``editions`` None and empty tuples mean: no condition."""

    mod: ModId
    version: Version
    game: Range | None
    editions: tuple[str, ...] | None
    expansions_needed: tuple[str, ...]
    expansions_used: tuple[str, ...]
    needs: tuple[Requirement, ...]
    clashes: tuple[Requirement, ...]
    load_after: tuple[ModId, ...]
    load_before: tuple[ModId, ...]
    carry: tuple[str, ...]
    files: tuple[ReleaseFile, ...]
    places: tuple[PlaceRule, ...]
    patches: Version | None
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class Mod:
    """One card: a mod and its releases, newest first."""

    id: ModId
    name: str
    kind: Kind
    licence: str
    ordering: Ordering
    releases: tuple[Release, ...]
    source: Source

    def release(self, version: Version) -> Release | None:
        """Return the release of that version, if the card has it."""
        return next((each for each in self.releases if each.version == version), None)

    def release_named(self, text: str) -> Release | None:
        """Return the release whose version is written just so, as a lock has it."""
        return next((each for each in self.releases if each.version.text == text), None)


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """A test on one file of a game folder: it is there, its text matches, or its hash is this."""

    file: PlacePath
    pattern: str | None
    blake3: str | None
    sha256: str | None
    answer: str
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class GameSheet:
    """How to know a game, and what is where in it.

    The first of ``version_rules`` that holds tells the version: its ``answer``, or the group named
    ``version`` of its pattern. The same for editions. Each expansion whose rule holds is there.
    """

    id: SheetId
    name: str
    marks: tuple[PlacePath, ...]
    version_rules: tuple[Rule, ...]
    edition_rules: tuple[Rule, ...]
    expansion_rules: tuple[Rule, ...]
    places: Mapping[str, PlacePath] = field(hash=False)
    own_files: tuple[str, ...]
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class Catalog:
    """All game sheets and cards of the catalog folders that a pack names."""

    folders: tuple[str, ...]
    sheets: Mapping[SheetId, GameSheet] = field(hash=False)
    mods: Mapping[ModId, Mod] = field(hash=False)

    def ordering(self, mod: str) -> Ordering:
        """Return how a mod's versions compare; ``dotted`` where no card is for it."""
        found = self.mods.get(ModId(mod))
        return found.ordering if found else DOTTED
