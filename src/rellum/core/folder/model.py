"""What a check finds, as plain values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal, NamedTuple

from rellum.core.values.owners import Owner
from rellum.core.values.paths import PlacePath

if TYPE_CHECKING:
    from rellum.core.patching.container import MemberChange

DriftKind = Literal["changed", "missing", "foreign"]

Cause = Literal[
    "",
    "game-update",
    "half-updated",
    "unsure",
    "vanilla-changed",
    "vanilla-missing",
    "mod-changed",
    "mod-missing",
    "left-over",
    "foreign-shared",
    "foreign",
    "case-changed",
    "marker",
]
"""What brought a finding about; nothing where it was not asked for.

``foreign-shared`` lies in a place that mods share, and may be loaded by the game. ``half-updated`` is as in
another version, while its other files are not there yet. ``unsure`` came with a game update whose
files are not known: it may be the game's own.
"""


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One difference between the folder and what Rellum last left there.

    ``owner`` is whose file it is: ``vanilla``, a release, or nobody for a foreign one. ``members`` are
    the changed members of a container that Rellum made. ``stands_as`` is the path of the file now,
    if only its capitals changed.
    """

    path: PlacePath
    kind: DriftKind
    owner: Owner | None
    detail: str
    has_original: bool
    members: tuple[MemberChange, ...] = ()
    cause: Cause = ""
    stands_as: PlacePath | None = None


class GameUpdate(NamedTuple):
    """The game was updated behind Rellum's back.

    version: what it is now, empty where nothing tells
    files: how many findings come from it
    by: known from a baseline, or from the version that the folder names
    waiting: how many files are still of the version before; then the update is only half done
    mark_is_same: the folder still calls itself what it was
    told: what it is now, in words that tell it from before
    """

    version: str
    files: int
    by: Literal["baseline", "version"]
    waiting: int = 0
    mark_is_same: bool = False
    told: str = ""


class Guard(NamedTuple):
    """Guarded files, which should be read-only, and those that are not, or are gone."""

    files: int
    broken: tuple[PlacePath, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Drift:
    """All findings, and what was looked at to come to them.

    ``touched`` have another time but the same content; ``own_changes`` are the user's, and meant;
    ``written_by_game`` are files that the game writes itself. ``damaged_originals`` are kept contents that
    are not what they were: known only where every file is read.
    """

    findings: tuple[Finding, ...]
    touched: tuple[PlacePath, ...]
    own_changes: tuple[PlacePath, ...]
    files_seen: int
    files_hashed: int
    written_by_game: tuple[PlacePath, ...] = ()
    update: GameUpdate | None = None
    guard: Guard | None = None
    missing_originals: tuple[PlacePath, ...] = ()
    damaged_originals: tuple[PlacePath, ...] = ()
