"""Outlook: for every known version of the game, which mods are ready and which hold the pack back."""

from __future__ import annotations

from rellum.core.actions.match.pack_problem import problem_of
from rellum.core.change.opening import OnRecovered, open_pack
from rellum.core.solving.game_versions import Outlook, look_out
from rellum.core.solving.search import Searcher


def outlook(pack_folder: str, on_recovered: OnRecovered) -> Outlook:
    """Search a line-up for each known version of the game. Raises what reading can raise."""
    with open_pack(pack_folder, on_recovered) as opened:
        asked = problem_of(opened)
        return look_out(Searcher(asked.problem), asked.problem, asked.releases_now())
