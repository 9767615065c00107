"""Layers and the target tree, as plain values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rellum.core.hashing import Digest
from rellum.core.ids import ModId
from rellum.core.paths import PlacePath

if TYPE_CHECKING:
    from rellum.core.archives.model import Member
    from rellum.core.catalog.model import FileEdit
    from rellum.core.shelf.index import ShelfEntry
    from rellum.core.versions.version import Version


@dataclass(frozen=True, slots=True, kw_only=True)
class LayerFile:
    """A member of an archive on the shelf, and the path at which the game will see it."""

    path: PlacePath
    archive: Digest
    member: Member


@dataclass(frozen=True, slots=True, kw_only=True)
class MadeFile:
    """A file that was made from what lies under it: its content, and whether it is a program."""

    path: PlacePath
    content: bytes
    digest: Digest
    executable: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class LayerEdit:
    """A change of a file that lies under a layer: the card's words, and the archives with its patch."""

    edit: FileEdit
    archives: tuple[tuple[ShelfEntry, Sequence[Member]], ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Layer:
    """The files that one release of the line-up puts over the game, and then those it changes."""

    mod: ModId
    version: Version
    files: tuple[LayerFile, ...]
    edits: tuple[LayerEdit, ...] = ()

    @property
    def owner(self) -> str:
        """Who the files belong to, as states and messages write it: ``tidal-currents 3.2``."""
        return f"{self.mod} {self.version}"


@dataclass(frozen=True, slots=True, kw_only=True)
class TargetFile:
    """What must stand at a path in the end, and which release brings it."""

    file: LayerFile | MadeFile
    owner: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """The files over the baseline, by path, and how many paths of each layer a later one hides."""

    files: dict[PlacePath, TargetFile]
    hidden: dict[str, int]
