"""Look: ask where mods are published for versions that no card knows yet."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from rellum.core.catalog.cache import cache_folder
from rellum.core.catalog.load import find_mod
from rellum.core.catalog.model import Mod
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.describing.published import FormChanged, newest_published
from rellum.core.fetching.pages import Page, PageFails, Pages
from rellum.core.pack.session import Session


@dataclass(frozen=True, slots=True, kw_only=True)
class Look:
    """What the page of one mod tells.

    now: the release in the line-up; empty: none
    in_card: the newest version that the card has
    published: the newest version that the page has; empty where ``fault`` says why it tells none
    is_newer: the card does not have it
    """

    mod: str
    now: str
    in_card: str
    page: str
    published: str = ""
    is_newer: bool = False
    is_kept: bool = False
    fault: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Looked:
    """What all pages tell, in the order of the mods; and the mods whose cards name no page."""

    looks: tuple[Look, ...]
    unnamed: tuple[str, ...]


def look(request: Request, only: Sequence[str] = ()) -> Looked:
    """Look at the pages of the mods in the line-up (or wanted, where there is none), or only of some.

    Raises UnknownMod, and what reading can raise. A page that fails stops none of the others.
    """
    with open_pack(request) as opened:
        named = list(_mods(opened, only))
    pages = Pages(os.path.join(cache_folder(), "pages"))
    found = pages.look(mod.news.url for mod, _ in named if mod.news)
    return Looked(
        looks=tuple(_look(mod, now, found[mod.news.url]) for mod, now in named if mod.news),
        unnamed=tuple(mod.id for mod, _ in named if not mod.news),
    )


def _mods(opened: Session, only: Sequence[str]) -> Iterator[tuple[Mod, str]]:
    """Yield mods with the version that is in the line-up."""
    catalog, lock = opened.files.catalog, opened.files.lock_if_any
    now = {each.mod: each.label for each in lock.releases} if lock else {}
    wanted = [*now] if lock else [each.mod for each in opened.files.pack.wants]
    for each in [find_mod(catalog, mod).id for mod in only] or wanted:
        mod = catalog.mods.get(each)
        if mod:
            yield mod, now.get(each, "")


def _look(mod: Mod, now: str, found: Page | PageFails) -> Look:
    assert mod.news is not None
    in_card = mod.releases[0].version
    plain = Look(mod=mod.id, now=now, in_card=in_card.text, page=mod.news.page)
    if isinstance(found, PageFails):
        return replace(plain, fault=found.reason)
    try:
        newest = newest_published(mod.news, found.content, mod.ordering)
    except FormChanged as error:
        return replace(plain, fault=str(error), is_kept=found.is_kept)
    known = {each.version.text for each in mod.releases}
    is_newer = newest.version > in_card if newest.version else newest.text not in known
    return replace(plain, published=newest.text, is_newer=is_newer, is_kept=found.is_kept)
