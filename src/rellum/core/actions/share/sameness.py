"""Whether a player has what the curator has: by texts to compare, and proven against a feed."""

from __future__ import annotations

import os
from typing import NamedTuple

from rellum.core.actions.share.follow import newest_of, whole_address
from rellum.core.change.looking import drift_of
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.feed.trusting import Trust
from rellum.core.pack import sameness as texts
from rellum.core.pack.pending_follow import FOLDER
from rellum.core.pack.sameness import Sameness
from rellum.core.values.paths import PlacePath


class Proof(NamedTuple):
    """What a game folder is beside a feed's newest version.

    ``version`` is that version, ``mine`` and ``theirs`` the texts of both; ``differing`` are files of mods
    whose bytes are not as they were laid.
    """

    version: int
    mine: Sameness
    theirs: Sameness
    differing: tuple[PlacePath, ...]
    hashed: int

    @property
    def is_same(self) -> bool:
        """Whether the player has exactly what was published."""
        return self.mine == self.theirs and not self.differing


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
        mine = texts.sameness_of(opened.files.lock, opened.state)
        theirs = Sameness(index.facts.get("line_up", ""), index.facts.get("tree", ""))
        drift = drift_of(opened, deep=True, listen=request.listen)
        laid = opened.state.laid()
        differing = [each.path for each in drift.findings if each.path in laid]
        return Proof(index.version, mine, theirs, tuple(differing), drift.files_hashed)
