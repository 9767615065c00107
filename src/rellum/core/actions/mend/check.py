"""Check: compare the game folder with what Rellum last left."""

from __future__ import annotations

from dataclasses import replace

from rellum.core.change.looking import drift_of, warn_of_unfit, with_causes, with_lost_originals
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.folder.model import Drift


def check(request: Request, *, deep: bool = False) -> Drift:
    """Find drift. ``deep``: hash every file, also where size and time are as recorded."""
    with open_pack(request) as opened:
        drift = with_causes(drift_of(opened, deep=deep, listen=request.listen), opened)
        warn_of_unfit(opened)
        drift = with_lost_originals(drift, opened, deep=deep)
        guarded = opened.state.guarded()
        if not guarded:
            return drift
        from rellum.core.actions.mend.guard import look_at_guard

        return replace(drift, guard=look_at_guard(guarded, opened.roots))
