"""Layers and the target tree, as plain values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from rellum.core.hashing import Digest
from rellum.core.ids import ModId
from rellum.core.paths import PlacePath

if TYPE_CHECKING:
    from rellum.core.archives.model import Member
    from rellum.core.versions.version import Version


@dataclass(frozen=True, slots=True, kw_only=True)
class LayerFile:
    """A member of an archive on the shelf, and the path at which the game will see it."""

    path: PlacePath
    archive: Digest
    member: Member


@dataclass(frozen=True, slots=True, kw_only=True)
class Layer:
    """The files that one release of the line-up puts over the game."""

    mod: ModId
    version: Version
    files: tuple[LayerFile, ...]

    @property
    def owner(self) -> str:
        """Who the files belong to, as states and messages write it: ``tidal-currents 3.2``."""
        return f"{self.mod} {self.version}"


@dataclass(frozen=True, slots=True, kw_only=True)
class TargetFile:
    """What must stand at a path in the end, and which release brings it."""

    file: LayerFile
    owner: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """The files over the baseline, by path, and how many paths of each layer a later one hides."""

    files: dict[PlacePath, TargetFile]
    hidden: dict[str, int]
