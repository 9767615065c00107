"""Outlook: for every known game version, which mods are ready and which block it."""

from __future__ import annotations

from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.composing.pack_problem import problem_of
from rellum.core.solving.game_versions import Outlook, look_out


def outlook(request: Request) -> Outlook:
    """Search a line-up for each known version of the game. Raises what reading can raise."""
    with open_pack(request) as opened:
        asked = problem_of(opened)
        return look_out(asked.problem, asked.releases_now())
