"""Take archives: check them, recognise their releases, put them on the shelf."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import replace

from rellum.core.actions.gather.archive_taker import AS_COPIES, HowToTake, TakeOutcome, opened_taker
from rellum.core.actions.gather.take_torrent import listed_in
from rellum.core.archives.model import SINGLE_FILE
from rellum.core.change.request import Request
from rellum.core.fetching.torrent_file import is_torrent
from rellum.core.values.paths import shown_file


def take(
    request: Request, paths: Sequence[str], how: HowToTake = AS_COPIES
) -> tuple[TakeOutcome, ...]:
    """Take each file by itself: a bad one does not stop the others.

    A .torrent among them stands for the files that it lists, in the folders among ``paths``, or beside it.
    Raises NoPack, FileFaults, UnknownMod, UnknownRelease.
    """
    torrents = [each for each in paths if is_torrent(each)]
    places = [each for each in paths if torrents and os.path.isdir(each)]
    with opened_taker(request.pack_folder, request.shelf_folder, how, request.listen) as taker:
        listed = [listed_in(taker, each, places) for each in torrents]
        files = [each for each in paths if each not in (*torrents, *places)]
        files += [file for each in listed for file in each.paths]
        refused = [outcome for each in listed for outcome in each.refused]
        outcomes = (*taker.take_all(files), *refused)
        describes = bool(taker.catalog.sheet.self_descriptions)
    if not describes or how.by == "move" or not any(_may_tell(each) for each in outcomes):
        return outcomes
    return tuple(with_own_cards(request, outcomes, how))


def _may_tell(outcome: TakeOutcome) -> bool:
    """Whether an unknown archive may describe itself."""
    return outcome.is_unknown and outcome.form not in (None, SINGLE_FILE)


def with_own_cards(
    request: Request, outcomes: Sequence[TakeOutcome], how: HowToTake
) -> Iterator[TakeOutcome]:
    """Write cards for unknown archives whose mods describe themselves, and yield what they are then."""
    from rellum.core.actions.gather.describe import save_own

    saved = save_own(request, [each.path for each in outcomes if _may_tell(each)])
    again: dict[str, TakeOutcome] = {}
    if saved:  # now their cards know them
        with opened_taker(request.pack_folder, request.shelf_folder, how, request.listen) as taker:
            again = {each.path: each for each in taker.take_all(saved)}
    for each in outcomes:
        found = again.get(each.path)
        if found is None or found.known is None:
            yield each
            continue
        card = shown_file(saved[each.path])
        reason = f"{card} has it now, from what the mod says about itself"
        yield replace(found, outcome="taken", reason=reason)
