"""An interrupted change whose journal is damaged: compare, and bring the folder back to before it.

Each line of the journal that passes its check is relied on, and what the state and the originals say; nothing
else. Copies that nothing in the state needs get a second name first, so that none is lost on the way.
"""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Iterator
from dataclasses import dataclass

from rellum.core.actions.mend.repair import restore_damaged
from rellum.core.actions.mend.restore import Confirm, RestoreResult
from rellum.core.change.carry_out import settle, undo_steps
from rellum.core.change.journal import Journal
from rellum.core.change.journal_reading import JournalDamaged, Salvage
from rellum.core.change.letting_go import rescue_folder, strays_that_are_nowhere_else
from rellum.core.change.looking import drift_of, with_causes
from rellum.core.change.opening import open_pack
from rellum.core.change.recover import recover
from rellum.core.change.request import Request
from rellum.core.folder.stamps import second_journal
from rellum.core.hashing import Digest
from rellum.core.pack.session import Session
from rellum.core.pack.site import Site
from rellum.core.values.paths import PlacePath, Roots, is_in_game, root_of

_SLACK = 2.0
"""Seconds by which the clocks of files may differ."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Mended:
    """What became of a change whose journal is damaged.

    action: what was interrupted; empty where that is lost
    is_done: the change was recorded, so it is done; else the folder is as before it; None: nobody knows
    lost: how many of its files are not known any more; None: nobody knows
    left: files that somebody else changed since, or whose original is damaged
    unknown: files that stand there and may be the interrupted change's, where steps of it are lost
    rescued, rescued_files: the folder of copies that belong to no known path, and how many there are
    journal: where the damaged journal lies now
    """

    action: str
    is_done: bool | None
    lost: int | None
    left: tuple[PlacePath, ...]
    unknown: tuple[PlacePath, ...]
    rescued: str
    rescued_files: int
    journal: str


@dataclass(frozen=True, slots=True, kw_only=True)
class MendResult:
    """``mended`` is None where no damaged journal was there; ``repair`` is what was put right after it.

    Nothing is put right (None) where the game's store has updated it: that is another matter.
    """

    mended: Mended | None
    repair: RestoreResult | None


def mend_interrupted(request: Request, confirm: Confirm, *, source: str = "") -> MendResult:
    """Bring an interrupted change with a damaged journal to its end; an undamaged one as every command does.

    Then what a check finds is put right, from the originals first. Raises what ``restore_damaged`` can raise.
    """
    with open_pack(request, leaves_journal=True) as opened:
        try:
            if recovered := recover(opened.site):
                request.on_recovered(recovered)
            return MendResult(mended=None, repair=None)
        except JournalDamaged as damage:
            salvage = damage.salvage
        journal = _placed(salvage, opened)
        rescued, is_done, left = _mend(salvage, journal, opened.site)
        aside = _set_journal_aside(opened.site)
        for staging in journal.stagings():
            opened.site.disk.remove_tree(staging)
    repair = None
    with open_pack(request) as opened:
        is_updated = with_causes(drift_of(opened), opened).update is not None
    if not is_updated:
        repair = restore_damaged(request, confirm, source=source)
    with open_pack(request) as opened:
        known = salvage.lost == 0
        handled = _handled(journal) if is_done and known else set()
        count = _forget_what_is_there(opened, journal, rescued, handled)
        return MendResult(
            mended=Mended(
                action=salvage.journal.action,
                is_done=is_done,
                lost=0 if is_done else salvage.lost,  # what is done, the state knows whole
                left=tuple(left),
                unknown=() if known or is_done else tuple(_doubtful(opened, journal, aside)),
                rescued=rescued if count else "",
                rescued_files=count,
                journal=aside,
            ),
            repair=repair,
        )


def _placed(salvage: Salvage, opened: Session) -> Journal:
    """Return the journal with the pack's roots, where its own are lost; without steps that lie nowhere."""
    journal = salvage.journal
    if not salvage.has_begin:
        roots = Roots(opened.roots.game_folder, opened.roots.outside)
        journal = journal._replace(roots=roots)
    steps = tuple(each for each in journal.steps if _is_placed(each.path, journal.roots))
    return journal._replace(steps=steps, is_ready=True, is_undoing=True)


def _is_placed(path: PlacePath, roots: Roots) -> bool:
    return is_in_game(path) or root_of(path) in roots.outside


def _mend(
    salvage: Salvage, journal: Journal, site: Site
) -> tuple[str, bool | None, list[PlacePath]]:
    """Finish what is recorded, else take back what can be; return where copies are safe, and what is left."""
    rescued = _rescue(site)
    is_done = _is_recorded(salvage, journal, site)
    left: list[PlacePath] = []
    if is_done is False:
        left = undo_steps(journal, site, goes_on=True)
    elif is_done and salvage.has_extent:
        settle(journal, site)
    return rescued, is_done, left


def _is_recorded(salvage: Salvage, journal: Journal, site: Site) -> bool | None:
    """Whether the state has the change: by its id, or where that is lost by what the state wants.

    None where neither tells.
    """
    if salvage.has_begin:
        return site.state.has_change(journal.id)
    state = site.state.laid([*(row.path for row in journal.laid), *journal.no_longer_laid])
    for row in journal.laid:
        if row.content:  # what is laid again is staged again, with a new time
            there = state.get(row.path)
            return there is not None and there.content == row.content
    return False if state else None


def _rescue(site: Site) -> str:
    """Give all that the store holds and nothing needs a second name, in a folder of its own."""
    store, folder = site.home.originals_folder, rescue_folder(site.home)
    names = os.listdir(store) if os.path.isdir(store) else []
    needed = site.state.needed_counts()
    for name in names:
        if name not in needed:
            os.makedirs(folder, exist_ok=True)
            target = os.path.join(folder, name)
            if not os.path.lexists(target):
                site.disk.link_or_copy(os.path.join(store, name), target)
    if os.path.isdir(folder):
        site.disk.flush(folder, [], [folder, os.path.dirname(folder)])
    return folder


def _set_journal_aside(site: Site) -> str:
    aside = f"{site.home.journal_file}.damaged-{time.strftime('%Y%m%d-%H%M%S')}"
    if not os.path.exists(site.home.journal_file):  # only its damaged copy is left
        shutil.copyfile(second_journal(site.roots.game_folder), aside)
        return aside
    os.replace(site.home.journal_file, aside)
    site.disk.flush(site.home.state_folder, [], [site.home.state_folder])
    return aside


def _handled(journal: Journal) -> set[Digest]:
    """Return the contents that a change which is done needs no longer, unless the state does."""
    of_steps = (content for step in journal.steps for content in (step.before, step.after))
    handled = {content.digest for content in of_steps if content} | set(journal.bases_before)
    return handled | {content.digest for _, content in journal.settings}


def _forget_what_is_there(
    opened: Session, journal: Journal, rescued: str, handled: set[Digest]
) -> int:
    """Remove second names if their contents are in place; return how many are left."""
    names = os.listdir(rescued) if os.path.isdir(rescued) else []
    needed = opened.state.needed_counts()
    digests = {Digest(name) for name in names if name not in needed} - handled
    nowhere = strays_that_are_nowhere_else(opened.site, journal, digests)
    for name in set(names) - set(nowhere):
        os.unlink(os.path.join(rescued, name))
    if names and not nowhere:
        os.rmdir(rescued)
    return len(nowhere)


def _doubtful(opened: Session, journal: Journal, journal_file: str) -> Iterator[PlacePath]:
    """Yield files that the lost steps may have made: foreign ones, and new ones in places outside."""
    yield from (each.path for each in drift_of(opened).findings if each.kind == "foreign")
    since = os.lstat(journal_file).st_mtime - _SLACK
    for root, folder in journal.roots.outside.items():
        for above, _, names in os.walk(folder):
            files = [os.path.join(above, name) for name in names]
            new = [file for file in files if os.lstat(file).st_ctime >= since]
            inside = (os.path.relpath(file, folder).replace(os.sep, "/") for file in new)
            paths = [PlacePath(f"{root}/{each}") for each in inside]
            laid = opened.state.laid(paths)
            yield from (path for path in paths if path not in laid)
