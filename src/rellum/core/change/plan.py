"""A plan: what is to be done to the game folder, one operation a path. Plain values."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, NamedTuple

from rellum.core.hashing import Digest
from rellum.core.values.content import FOREIGN, RELLUM, VANILLA, Content, Laid
from rellum.core.values.paths import PlacePath
from rellum.core.values.roles import Role

if TYPE_CHECKING:
    from rellum.core.layers.model import Brought
    from rellum.core.pack.checkpoints import BaselineChange
    from rellum.core.pack.kept_copies import Kept


Effect = Literal[
    "new", "replaces vanilla", "replaces", "mends", "brings back", "removes", "sets aside"
]


class Operation(NamedTuple):
    """One file of the game folder, before and after.

    before: what stands there now, None where nothing does
    before_owner: whose it is: ``vanilla``, a release, or ``foreign``
    changed: what stands there is not what Rellum or the game left
    keep: a copy of what stands there is kept for the user after the change
    aside_for: the mod with which that comes back, or has come back now
    after: digest and size of what shall stand there (mode and time follow from the source)
    after_owner: the release that it will belong to, or that takes the file away; ``vanilla`` where a
        file comes back
    under: what will lie under a file laid, to come back one day
    source: where the new content comes from: what a layer brings, bytes, or (None) the originals
    role: whose changes the laid file takes
    base: what the release itself wanted, where that is merged with the user's changes
    row: what was laid there, where a rewind brings just that back
    kept_base: what the release wanted of the file that is kept, where it was merged
    """

    path: PlacePath
    before: Content | None
    before_owner: str
    changed: bool
    keep: bool
    after: Content | None
    after_owner: str
    under: Content | None
    source: Brought | bytes | None
    role: Role = ""
    base: Digest | None = None
    aside_for: str = ""
    row: Laid | None = None
    kept_base: Digest | None = None

    @property
    def returns(self) -> bool:
        """Whether it brings back what the user had in the folder of a mod that went and came."""
        return bool(self.aside_for) and not self.keep

    @property
    def lays(self) -> bool:
        """Whether a layer wants it so: a file of its own there, one merged with its own, or none."""
        return self.row is not None or self.after_owner not in ("", VANILLA, FOREIGN)

    @property
    def effect(self) -> Effect:
        """What it does, in a word or two, as previews show it."""
        if self.after is None:
            is_the_users = bool(self.aside_for) or self.before_owner == FOREIGN
            return "sets aside" if is_the_users else "removes"
        if self.after_owner in (VANILLA, FOREIGN):
            return "brings back"
        if self.before_owner == self.after_owner:
            return "mends" if self.changed else "replaces"
        if self.before is None:
            return "new"
        return "replaces vanilla" if self.before_owner == VANILLA else "replaces"


class Record(NamedTuple):
    """Something to note in the state that needs no change of the folder.

    ``content`` and ``owner`` tell what is laid at the path; without an owner, it is laid no longer;
    with one and no content, the owner wants nothing there.
    """

    path: PlacePath
    owner: str
    content: Content | None
    under: Content | None
    role: Role = ""
    base: Digest | None = None


ModeChange = tuple[PlacePath, int, int]
"""A file, and its mode before and after."""


class Plan(NamedTuple):
    """Everything that one change does, sorted by path.

    new_folders: folders to be made, the outer first
    spare_folders: folders that go if nothing is left in them, the inner first
    left_alone: what cannot be brought back, or is the user's and stays, with the reason
    bases: contents that the store of originals must hold beside what is displaced
    others_folders: those of the new folders that are somebody else's, not Rellum's
    swept_to, swept: the folder outside the game to which some of the files that go are moved
    baseline, identity: what becomes of what is known of the game, where that changes
    stood: what stood at paths before the game itself, or another program, put other files there
    kept_too: copies that lie in the store already and join the list
    kept_gone: numbers of kept copies that leave the list
    unsure: new files of an update that may be the game's own
    modes: files whose mode alone changes, with the mode before and after
    guarded: the files guarded from now on, with their modes of before; None: as it is
    spent: files outside the game, absolute, with their hashes, that go once their contents lie in it
    is_found: there is nothing in it to go back over
    """

    operations: tuple[Operation, ...]
    records: tuple[Record, ...]
    new_folders: tuple[PlacePath, ...]
    spare_folders: tuple[PlacePath, ...]
    left_alone: tuple[tuple[PlacePath, str], ...]
    bases: tuple[Brought, ...] = ()
    baseline: tuple[BaselineChange, ...] = ()
    identity: str = ""
    stood: tuple[tuple[PlacePath, Content | None], ...] = ()
    spent: tuple[tuple[str, Digest], ...] = ()
    is_found: bool = False
    others_folders: tuple[PlacePath, ...] = ()
    swept_to: str = ""
    swept: tuple[PlacePath, ...] = ()
    kept_too: tuple[Kept, ...] = ()
    kept_gone: tuple[int, ...] = ()
    unsure: tuple[PlacePath, ...] = ()
    modes: tuple[ModeChange, ...] = ()
    guarded: tuple[tuple[PlacePath, int], ...] | None = None

    @property
    def visible(self) -> tuple[Operation, ...]:
        """The operations on files that are not Rellum's own marker."""
        return tuple(
            each for each in self.operations if RELLUM not in (each.after_owner, each.before_owner)
        )

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to do at all."""
        return not (
            self.operations
            or self.records
            or self.new_folders
            or self.spare_folders
            or self.identity
            or self.kept_gone
            or self.modes
            or self.guarded is not None
        )
