"""Take archives: check them, recognise their releases, put them on the shelf."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from rellum.core.actions.gather.archive_taker import AS_COPIES, HowToTake, TakeOutcome, opened_taker
from rellum.core.archives.model import SINGLE_FILE
from rellum.core.change.request import Request
from rellum.core.values.paths import shown_file


def take(
    request: Request, paths: Iterable[str], how: HowToTake = AS_COPIES
) -> tuple[TakeOutcome, ...]:
    """Take each file by itself: a bad one does not stop the others.

    Raises NoPack, FileFaults, UnknownMod, UnknownRelease.
    """
    with opened_taker(request.pack_folder, request.shelf_folder, how, request.listen) as taker:
        outcomes = tuple(taker.take_all(paths))
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
