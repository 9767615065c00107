"""Check: compare the game folder with what Rellum last left."""

from __future__ import annotations

from dataclasses import replace

from rellum.core.change.looking import drift_of, with_causes
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.folder.model import Drift
from rellum.core.pack.session import Session
from rellum.core.values.paths import PlacePath


def check(request: Request, *, deep: bool = False) -> Drift:
    """Find drift. ``deep``: hash every file, also where size and time are as recorded."""
    with open_pack(request) as opened:
        drift = with_causes(drift_of(opened, deep=deep, listen=request.listen), opened)
        if deep:
            drift = replace(drift, damaged_originals=_damaged_originals(opened))
        guarded = opened.state.guarded()
        if not guarded:
            return drift
        from rellum.core.actions.mend.guard import look_at_guard

        return replace(drift, guard=look_at_guard(guarded, opened.roots))


def _damaged_originals(opened: Session) -> tuple[PlacePath, ...]:
    """Return the paths whose originals are in the store and damaged."""
    damaged = set(opened.site.originals.damaged())
    if not damaged:
        return ()
    state = opened.state
    found = {row.path for row in state.laid().values() if row.under and row.under.digest in damaged}
    found |= {each.path for each in state.kept.all() if each.digest in damaged}
    return tuple(sorted(found))
