"""Whether a player has what the curator has: by texts to compare, and proven against a feed."""

from __future__ import annotations

import os
from typing import NamedTuple

from rellum.core.actions.share.follow import newest_of, whole_address
from rellum.core.change.looking import drift_of, with_causes
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.feed.trusting import Trust
from rellum.core.pack import sameness as texts
from rellum.core.pack.home import LOCK_FILE, read_text
from rellum.core.pack.lock_file import read_lock_text
from rellum.core.pack.pending_follow import FOLDER
from rellum.core.pack.sameness import Sameness
from rellum.core.pack.session import Session
from rellum.core.values.ids import ModId, ReleaseName
from rellum.core.values.paths import PlacePath


class Proof(NamedTuple):
    """What a game folder is beside a feed's newest version.

    version, here: that version, and the one that the pack follows; 0 where it follows none
    mine, theirs: the texts of both, over the curator's mods
    differing: files of the curator's mods whose bytes are not as they were laid
    own_mods: mods that the player has besides
    foreign, vanilla: what is foreign, and vanilla files that are changed or gone
    own_settings: files that are the player's to change, and were changed
    hashed: how many files were read
    """

    version: int
    here: int
    mine: Sameness
    theirs: Sameness
    differing: tuple[PlacePath, ...]
    own_mods: tuple[ReleaseName, ...]
    foreign: tuple[PlacePath, ...]
    vanilla: tuple[PlacePath, ...]
    own_settings: tuple[PlacePath, ...]
    hashed: int

    @property
    def is_curators(self) -> bool:
        """Whether all that the curator's mods lay is there, byte for byte."""
        return self.mine == self.theirs and not self.differing

    @property
    def is_same(self) -> bool:
        """Whether that is so, and nothing else in the game can make a difference but the player's
        settings.
        """
        return self.is_curators and not (self.own_mods or self.foreign or self.vanilla)


def sameness(request: Request) -> Sameness:
    """Return the texts of a pack by which two people can compare. Raises NoLineUp."""
    with open_pack(request) as opened:
        return texts.sameness_of(opened.files.lock, opened.state)


def prove(request: Request, address: str, trust: Trust) -> Proof:
    """Hold the game against a feed, every file of mods read. Raises what reading the feed can raise."""
    address = whole_address(address)
    with open_pack(request) as opened:
        kept = os.path.join(opened.home.folder, FOLDER, "trust")
        followed = opened.files.pack.feed
        if not (followed and followed.address == address and os.path.isdir(kept)):
            kept = os.path.join(opened.home.state_folder, "compared")
        _, index = newest_of(address, kept, trust)
        mods = _curators_mods(opened) if followed else None
        mine = texts.sameness_of(opened.files.lock, opened.state, mods)
        theirs = Sameness(index.facts.get("line_up", ""), index.facts.get("tree", ""))
        drift = with_causes(drift_of(opened, deep=True, listen=request.listen), opened)
        laid = {
            path: row.owner
            for path, row in opened.state.laid().items()
            if isinstance(row.owner, ReleaseName) and (mods is None or row.owner.mod in mods)
        }
        in_game = opened.state.releases_in_game()
        other = [each for each in drift.findings if each.path not in laid]
        return Proof(
            version=index.version,
            here=followed.version if followed else 0,
            mine=mine,
            theirs=theirs,
            differing=tuple(each.path for each in drift.findings if each.path in laid),
            own_mods=tuple(each for each in in_game if mods is not None and each.mod not in mods),
            foreign=tuple(each.path for each in other if each.kind == "foreign"),
            vanilla=tuple(each.path for each in other if each.kind != "foreign"),
            own_settings=drift.own_changes,
            hashed=drift.files_hashed,
        )


def _curators_mods(opened: Session) -> frozenset[ModId] | None:
    """Return the mods of the line-up that the pack follows; None where that cannot be read."""
    text = read_text(os.path.join(opened.home.folder, FOLDER, "pack", LOCK_FILE))
    lock = read_lock_text(text, LOCK_FILE) if text else None
    return frozenset(each.mod for each in lock.names) if lock else None
