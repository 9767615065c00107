"""What is wanted at each path, and what of it is the user's own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

from rellum.core.folder.stamps import MARKER_NAME, STAGING_NAME
from rellum.core.pack.rows import BaselineEntry
from rellum.core.pack.standing import CannotLay
from rellum.core.values.content import EXECUTABLE_MODE, PLAIN_MODE, Content
from rellum.core.values.ids import ReleaseName
from rellum.core.values.owners import Owner
from rellum.core.values.paths import PlacePath, file_of, root_of, shown
from rellum.core.values.roles import Role

if TYPE_CHECKING:
    from rellum.core.layers.model import Brought, TargetFile

IsCarried = Callable[[PlacePath], bool]


class WantedFile(NamedTuple):
    """A file that a release wants at a path.

    role, base: whose changes it takes; what the release itself wanted, where it is merged
    keeps_copy: the user's file is kept aside, as not all of it is in this one
    returns: the mod with which the user's file came back that is part of it
    """

    content: Content
    owner: Owner
    source: Brought | bytes
    role: Role = ""
    base: Brought | None = None
    keeps_copy: bool = False
    returns: str = ""


class WantedNothing(NamedTuple):
    """A release wants no file at a path."""

    owner: Owner


Wanted = WantedFile | WantedNothing


@dataclass(frozen=True, slots=True, kw_only=True)
class LeftOver:
    """A file that a release names as obsolete: older ones of its mod left it."""

    path: PlacePath
    named_by: ReleaseName


@dataclass(frozen=True, slots=True, kw_only=True)
class TheUsers:
    """What is the user's own, and how much of it comes and goes with mods.

    ``is_carried`` tells which files are the user's where a mod brings them no longer; ``shared`` are
    folders that mods share, in which nobody's files are nobody's business; ``mods`` are in the line-up,
    and so are grafts.
    ``swept`` are left-overs to move to the folder ``swept_to``.
    """

    is_carried: IsCarried
    shared: frozenset[PlacePath]
    mods: frozenset[str]
    swept: tuple[PlacePath, ...] = ()
    swept_to: str = ""


def from_layer(file: TargetFile, vanilla: BaselineEntry | None) -> Wanted:
    """Return the wish for a layer's file. Raises CannotLay."""
    from rellum.core.layers.model import Removal  # restoring plans too, and lays nothing

    brought = file.file
    path = file_of(brought.path)
    name = path[len(root_of(path)) + 1 :].partition("/")[0]
    if name in (MARKER_NAME, STAGING_NAME):
        raise CannotLay(
            f"{file.owner} brings {shown(brought.path)}, a name that Rellum reserves",
            hint="Leave it out by 'take' in the card.",
        )
    if vanilla is not None and vanilla.content is None:
        raise CannotLay(
            f"{shown(brought.path)}, a file of {file.owner}, is a {vanilla.kind} of the game",
            hint="Correct 'to' in its card.",
        )
    if isinstance(brought, Removal):
        return WantedNothing(file.owner)
    mode = EXECUTABLE_MODE if brought.executable else PLAIN_MODE
    if vanilla is not None and vanilla.content is not None:
        mode = vanilla.content.mode
    return WantedFile(
        content=Content(digest=brought.digest, size=brought.size, mode=mode, mtime_ns=0),
        owner=file.owner,
        source=brought,
        role=file.role,
        base=file.base,
        keeps_copy=file.keeps_copy,
        returns=file.returns,
    )
