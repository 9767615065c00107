"""News: releases newer than those in the line-up, and what each would change."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace

from rellum.core.catalog.load import find_mod
from rellum.core.catalog.model import Catalog
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.composing.line_up import line_up_of
from rellum.core.composing.pack_problem import make_problem, problem_of
from rellum.core.errors import NoAnswer, UserError
from rellum.core.pack.pack_file import asked_hash
from rellum.core.shelf.store import Shelf
from rellum.core.solving.newer_releases import NewRelease, find_news
from rellum.core.solving.suppose import Releases
from rellum.core.values.ids import ModId
from rellum.core.versions.version import Version


class NotChosen(UserError):
    """A mod is not in the line-up."""

    code = "not-chosen"


@dataclass(frozen=True, slots=True, kw_only=True)
class News:
    """Newer releases, in load order of the mods; and how many mods there are."""

    game: Version
    releases: tuple[NewRelease, ...]
    mods: int


def news(request: Request, only: Sequence[str] = ()) -> News:
    """Look for newer releases, of all mods of the line-up or only of some.

    Raises NoLineUp, UnknownMod, NotChosen, and what reading can raise.
    """
    with open_pack(request) as opened:
        lock = opened.files.lock
        asked = problem_of(opened, fresh=())
        if lock.asked != asked_hash(asked.pack):
            # What leaves, or comes, as rellum.toml changed is no consequence of a newer release.
            with suppress(NoAnswer), Shelf(request.shelf_folder) as shelf:
                lock = line_up_of(opened, shelf, ())
            problem = make_problem(
                asked.home, asked.pack, asked.catalog, asked.identity, lock, fresh=()
            )
            asked = replace(asked, lock=lock, problem=problem)
        now = asked.releases_now()
        mods = [_chosen(asked.catalog, now, each) for each in only] or list(now)
        # To seek the statements against thousands of releases takes an hour; who asks for a mod reads them.
        found = tuple(find_news(asked.problem, now, mods, tells=bool(only)))
    return News(game=lock.game_version, releases=found, mods=len(mods))


def _chosen(catalog: Catalog, now: Releases, mod_id: str) -> ModId:
    mod = find_mod(catalog, mod_id)
    if mod.id not in now:
        raise NotChosen(
            f"{mod.id} is not in the line-up",
            hint=f"'rellum why {mod.id}' tells why not, and if you take it.",
        )
    return mod.id
