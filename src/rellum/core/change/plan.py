"""A plan: what to do to the game folder, one operation per path. Plain values."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from rellum.core.change.operations import Operation
from rellum.core.hashing import Digest
from rellum.core.values.content import Content, Laid
from rellum.core.values.owners import RELLUM
from rellum.core.values.paths import PlacePath

if TYPE_CHECKING:
    from rellum.core.layers.model import Brought
    from rellum.core.pack.kept_copies import Kept
    from rellum.core.pack.state_change import BaselineChange


ModeChange = tuple[PlacePath, int, int]
"""A file, and its mode before and after."""


class Plan(NamedTuple):
    """Everything that one change does, sorted by path.

    noted: what is laid at paths that no operation touches, to be noted in the state
    forgotten: paths at which nothing is laid any longer, and that no operation touches
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

    operations: tuple[Operation, ...] = ()
    noted: tuple[Laid, ...] = ()
    forgotten: tuple[PlacePath, ...] = ()
    new_folders: tuple[PlacePath, ...] = ()
    spare_folders: tuple[PlacePath, ...] = ()
    left_alone: tuple[tuple[PlacePath, str], ...] = ()
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
            each for each in self.operations if RELLUM not in (each.owner, each.found.owner)
        )

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to do at all."""
        return not (
            self.operations
            or self.noted
            or self.forgotten
            or self.new_folders
            or self.spare_folders
            or self.identity
            or self.kept_gone
            or self.modes
            or self.guarded is not None
        )
