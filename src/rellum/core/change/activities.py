"""Activities: work on a pack that goes on over several commands, and what may be done meanwhile.

A hunt lays only some mods; from ``absorb --begin`` to ``--end`` the changes in the game are those of another
program. A command that would mix its own with these is refused, and told how to go on or to end them. A
version of a feed that is half taken over is an activity, too; every command ends that first, as it does an
interrupted change (``rellum.core.pack.pending_follow``).
"""

from __future__ import annotations

import os

from rellum.core.errors import UserError
from rellum.core.pack.home import PackHome
from rellum.core.pack.hunt_log import hunt_file
from rellum.core.pack.state import State

ABSORBING = "absorbing"
"""The note of the state while another program's changes are waited for."""

_KEEP_THE_SET = ("restore", "backup", "kept back", "sweep --back", "guard on", "guard off")
"""Changes that leave what an activity is about as it is, or that must never be refused."""


class UnderWay(UserError):
    """An activity is under way that the command would spoil."""

    code = "under-way"


def refuse_activities(home: PackHome, state: State, action: str) -> None:
    """Refuse an action that would spoil an activity. Raises UnderWay."""
    if action in _KEEP_THE_SET:
        return
    if action != "hunt" and os.path.exists(hunt_file(home)):
        raise UnderWay(
            "a hunt is under way, and it chooses which mods are in the game",
            hint="'rellum hunt' goes on with it; 'rellum hunt --stop' ends it with the whole pack.",
        )
    if action != "absorb" and state.note(ABSORBING):
        raise UnderWay(
            "'absorb --begin' was run, and another program may have changed the game since",
            hint="'rellum absorb --end --as NAME' makes a mod of its changes; 'rellum absorb --stop' takes "
            "them for drift.",
        )
