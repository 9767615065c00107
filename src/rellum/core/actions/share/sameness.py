"""Whether a player has what the curator has: by texts to compare, and proven against a feed."""

from __future__ import annotations

from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.pack import sameness as texts
from rellum.core.pack.sameness import Sameness


def sameness(request: Request) -> Sameness:
    """Return the texts of a pack by which two people can compare. Raises NoLineUp."""
    with open_pack(request) as opened:
        return texts.sameness_of(opened.files.lock, opened.state)
