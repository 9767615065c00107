"""News: newer releases than those of the line-up, each with what taking it would do."""

from __future__ import annotations

from dataclasses import dataclass

from rellum.core.actions.open_pack import OnRecovered, open_pack
from rellum.core.actions.pack_problem import problem_of
from rellum.core.pack.lock_file import read_lock
from rellum.core.solving.news import NewRelease, find_news
from rellum.core.solving.search import Searcher
from rellum.core.versions.version import Version


@dataclass(frozen=True, slots=True, kw_only=True)
class News:
    """Newer releases, in load order of the mods; and how many mods there are."""

    game: Version
    releases: tuple[NewRelease, ...]
    mods: int


def news(pack_folder: str, on_recovered: OnRecovered) -> News:
    """Look for newer releases. Raises NoLineUp, and what reading can raise."""
    with open_pack(pack_folder, on_recovered) as opened:
        lock = read_lock(opened.home)
        asked = problem_of(opened)
        now = asked.releases_now()
        found = tuple(find_news(Searcher(asked.problem), asked.problem, now))
    return News(game=lock.game_version, releases=found, mods=len(now))
