"""Layers and the target tree, as plain values."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

from rellum.core.hashing import Digest
from rellum.core.values.ids import ModId, ReleaseName
from rellum.core.values.owners import Owner
from rellum.core.values.paths import PlacePath, TargetPath
from rellum.core.values.roles import Role

if TYPE_CHECKING:
    from rellum.core.archives.model import Member
    from rellum.core.catalog.release_rules import FileEdit
    from rellum.core.shelf.index import ShelfEntry


@dataclass(frozen=True, slots=True, kw_only=True)
class LayerFile:
    """A member of an archive on the shelf, and the path at which the game will see it."""

    path: TargetPath
    archive: Digest
    member: Member

    @property
    def digest(self) -> Digest:
        """The hash of its content."""
        return self.member.digest

    @property
    def size(self) -> int:
        """Its size in bytes."""
        return self.member.size

    @property
    def executable(self) -> bool:
        """Whether it is a program."""
        return self.member.executable


@dataclass(frozen=True, slots=True, kw_only=True)
class MadeFile:
    """A file that is made from others: by an edit, out of members, by merging, from a text.

    ``recipe`` tells of what and how it is made, and so its content; ``size`` is in bytes. ``notes`` is
    what its maker has to say of it.
    """

    path: TargetPath
    recipe: str
    digest: Digest
    size: int
    executable: bool = False
    notes: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class DiskFile:
    """A file on disk, at the absolute path ``file``, to copy."""

    path: TargetPath
    file: str
    digest: Digest
    size: int
    executable: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Removal:
    """Nothing: what lies at the path goes, and comes back when the layer does."""

    path: TargetPath


Brought = LayerFile | MadeFile | DiskFile
"""A file with a content."""


@dataclass(frozen=True, slots=True, kw_only=True)
class LayerEdit:
    """A change of a file that lies under a layer: the card's words, and the archives with its patch."""

    edit: FileEdit
    archives: tuple[tuple[ShelfEntry, Sequence[Member]], ...]


def never_the_users(_: TargetPath) -> Role:
    """Say of every file that the user's changes do not count."""
    return ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Layer:
    """What one release of the line-up does to the game.

    First the files that fit ``removes`` (patterns over place paths) go, then come ``files`` and
    ``folders``, then ``edits`` change what lies there. ``update`` tells how a file that the user
    changes is brought up to date. ``notes`` are for people.
    """

    mod: ModId
    version: str
    files: tuple[Brought, ...]
    folders: tuple[PlacePath, ...] = ()
    edits: tuple[LayerEdit, ...] = ()
    removes: tuple[str, ...] = ()
    update: Callable[[TargetPath], Role] = never_the_users
    notes: tuple[str, ...] = ()
    build: str = ""

    @property
    def owner(self) -> ReleaseName:
        """The release that the files belong to."""
        return ReleaseName(self.mod, self.version, self.build)


class TargetFile(NamedTuple):
    """What must stand at a path in the end, and which release brings it.

    A named tuple, as a plan has one for every path: that takes a third of the time.

    ``base`` is what the release itself wants of a file that is merged with the user's changes;
    ``keeps_copy``: the user's file is kept aside, as not all of it is in this one. ``returns``: the mod
    that the user's file waited for, which is merged into this one now. ``is_users``: it is the user's own
    file, edited.
    """

    file: Brought | Removal
    owner: Owner
    role: Role = ""
    base: Brought | None = None
    keeps_copy: bool = False
    returns: str = ""
    is_users: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """The files over the baseline, by path, and how many paths of each layer a later one hides.

    ``folders`` must be there even if nothing lies in them.
    """

    files: dict[PlacePath, TargetFile]
    hidden: dict[Owner, int]
    folders: frozenset[PlacePath] = frozenset()
