"""The operations of a plan: what may become of one path, a kind for each. Plain values."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, NamedTuple

from rellum.core.hashing import Digest
from rellum.core.values.content import Content, Laid
from rellum.core.values.owners import FOREIGN, VANILLA, Owner
from rellum.core.values.paths import PlacePath
from rellum.core.values.roles import Role

if TYPE_CHECKING:
    from rellum.core.layers.model import Brought


Effect = Literal[
    "new", "replaces vanilla", "replaces", "mends", "brings back", "removes", "sets aside"
]
"""What an operation does, in a word or two, as previews show it."""


class Found(NamedTuple):
    """What a plan finds at a path before it does anything there.

    ``is_changed``: it is not what Rellum, or the game, left there.
    """

    content: Content | None
    owner: Owner
    is_changed: bool = False


class Keep(NamedTuple):
    """An order to keep a copy of what is found at a path, for the user.

    ``for_mod`` is the mod with which it comes back, empty where it only stays in the list; then ``base`` is
    what the release wanted of it, where it was merged with the user's changes.
    """

    for_mod: str = ""
    base: Digest | None = None


class Lay(NamedTuple):
    """A release's file comes, and is ``after`` there.

    ``under`` is what will lie under it, to come back one day; ``source`` where its content comes from.
    ``role`` says whose changes it takes, ``base`` what the release itself wanted where it is merged.
    ``returns`` is the mod whose waiting file is merged into it.
    """

    path: PlacePath
    found: Found
    after: Content
    owner: Owner
    under: Content | None
    source: Brought | bytes
    role: Role = ""
    base: Digest | None = None
    keep: Keep | None = None
    returns: str = ""

    @property
    def effect(self) -> Effect:
        """What it does, in a word or two."""
        return _laying_effect(self.found, self.owner)


class TakeOut(NamedTuple):
    """A release wants nothing at a path: what stands there goes, and comes back when the release goes."""

    path: PlacePath
    found: Found
    owner: Owner
    under: Content | None
    keep: Keep | None = None

    @property
    def after(self) -> Content | None:
        """What stands there in the end: nothing."""
        return None

    @property
    def effect(self) -> Effect:
        """What it does, in a word or two."""
        return "removes"


class LayAgain(NamedTuple):
    """What was laid once comes back, with its row in the state; without ``after``, its release wants no file.

    ``after`` differs from the row's where only what the user made of it is kept. ``source`` is what a layer
    brings; None: it lies in the store of originals.
    """

    path: PlacePath
    found: Found
    row: Laid
    after: Content | None
    source: Brought | None = None
    keep: Keep | None = None
    returns: str = ""

    @property
    def owner(self) -> Owner:
        """Whose the file is in the end."""
        return self.row.owner

    @property
    def effect(self) -> Effect:
        """What it does, in a word or two."""
        if self.after is not None:
            return _laying_effect(self.found, self.owner)
        is_the_users = self.found.owner is FOREIGN or (self.keep and self.keep.for_mod)
        return "sets aside" if is_the_users else "removes"


class BringBack(NamedTuple):
    """A file that no mod brings comes: the game's own, or one that somebody had put there.

    ``source`` is where its content comes from, None where that lies in the store of originals.
    """

    path: PlacePath
    found: Found
    after: Content
    owner: Owner
    source: Brought | bytes | None = None
    keep: Keep | None = None

    @property
    def effect(self) -> Effect:
        """What it does, in a word or two."""
        return "brings back"


class Return(NamedTuple):
    """The user's file comes back that waited for a mod."""

    path: PlacePath
    found: Found
    after: Content
    mod: str

    @property
    def owner(self) -> Owner:
        """Whose the file is in the end."""
        return FOREIGN

    @property
    def keep(self) -> Keep | None:
        """No copy is kept: nothing stands there, or what can be had again."""
        return None

    @property
    def returns(self) -> str:
        """The mod that the file waited for."""
        return self.mod

    @property
    def effect(self) -> Effect:
        """What it does, in a word or two."""
        return "brings back"


class Remove(NamedTuple):
    """A file of a mod or of the game goes, and nothing comes instead."""

    path: PlacePath
    found: Found
    keep: Keep | None = None

    @property
    def after(self) -> Content | None:
        """What stands there in the end: nothing."""
        return None

    @property
    def owner(self) -> Owner | None:
        """Whose the path is in the end: nobody's."""
        return None

    @property
    def effect(self) -> Effect:
        """What it does, in a word or two."""
        return "removes"


class SetAside(NamedTuple):
    """A file that is the user's or nobody's goes; without ``keep``, it is moved out of the game."""

    path: PlacePath
    found: Found
    keep: Keep | None = None

    @property
    def after(self) -> Content | None:
        """What stands there in the end: nothing."""
        return None

    @property
    def owner(self) -> Owner | None:
        """Whose the path is in the end: nobody's."""
        return None

    @property
    def effect(self) -> Effect:
        """What it does, in a word or two."""
        return "sets aside"


Operation = Lay | TakeOut | LayAgain | BringBack | Return | Remove | SetAside
"""One file of the game folder, before and after."""


def _laying_effect(found: Found, owner: Owner) -> Effect:
    if found.owner == owner:
        return "mends" if found.is_changed else "replaces"
    if found.content is None:
        return "new"
    return "replaces vanilla" if found.owner is VANILLA else "replaces"


def returned_with(operation: Operation) -> str:
    """Return the mod that a file of the user waited for which is back now; an empty text where none did."""
    return operation.returns if isinstance(operation, Lay | LayAgain | Return) else ""


def source_of(operation: Operation) -> Brought | bytes | None:
    """Return where the new content comes from; None: the originals, or there is no new content."""
    return operation.source if isinstance(operation, Lay | LayAgain | BringBack) else None


def lays(operation: Operation) -> bool:
    """Whether a release wants it so: the state has a row of the path then."""
    return isinstance(operation, Lay | TakeOut | LayAgain)


def row_after(operation: Operation, content: Content | None) -> Laid | None:
    """Return the state's row of a path once ``content`` stands there; None where nothing is laid then."""
    if isinstance(operation, Lay):
        return Laid(
            path=operation.path,
            owner=operation.owner,
            content=content,
            under=operation.under,
            role=operation.role,
            base=operation.base,
        )
    if isinstance(operation, TakeOut):
        return Laid(operation.path, operation.owner, content=None, under=operation.under)
    if isinstance(operation, LayAgain):
        row = operation.row
        is_its_content = content and row.content and row.content.digest == content.digest
        return row._replace(content=content) if is_its_content else row
    return None


def under_after(operation: Operation) -> Content | None:
    """Return what lies under a path in the end, so that the originals must have it."""
    if isinstance(operation, Lay | TakeOut):
        return operation.under
    return operation.row.under if isinstance(operation, LayAgain) else None
