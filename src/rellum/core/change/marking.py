"""Laying the marker of a pack that begins with a game: the first change, and nothing to go back over."""

from __future__ import annotations

from rellum.core.change.operations import Found, Lay
from rellum.core.change.plan import Plan
from rellum.core.hashing import hash_bytes
from rellum.core.pack.marker import MARKER_PATH
from rellum.core.pack.standing import content_at
from rellum.core.values.content import PLAIN_MODE, Content
from rellum.core.values.owners import RELLUM
from rellum.core.values.paths import Roots


def plan_marker(marker: bytes, roots: Roots) -> Plan:
    """Plan so that the marker lies in the game, over one that an interrupted beginning may have left."""
    now, _ = content_at(roots, MARKER_PATH, None)
    operation = Lay(
        path=MARKER_PATH,
        found=Found(now, RELLUM),
        after=Content(digest=hash_bytes(marker), size=len(marker), mode=PLAIN_MODE, mtime_ns=0),
        owner=RELLUM,
        under=None,
        source=marker,
    )
    return Plan(operations=(operation,), is_found=True)
