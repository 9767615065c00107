"""After an interruption: find the journal, finish the change or take it back, and say so."""

from __future__ import annotations

import os
import sqlite3
from dataclasses import dataclass
from typing import Literal

from rellum.core.change.carry_out import carry_out, clean_up, settle, spare_roots, undo
from rellum.core.change.execute import StillBroken
from rellum.core.change.journal import Journal
from rellum.core.change.journal_reading import JournalDamaged, read_journal, salvage_of
from rellum.core.errors import RellumError
from rellum.core.folder.stamps import second_journal
from rellum.core.pack.site import Site
from rellum.core.values.paths import PlacePath


@dataclass(frozen=True, slots=True, kw_only=True)
class Recovered:
    """What was found and done. ``left`` are files that somebody else changed in between."""

    action: str
    outcome: Literal["finished", "undone"]
    left: tuple[PlacePath, ...]


def recover(site: Site) -> Recovered | None:
    """Bring an interrupted change to its end, if there is one.

    Raises StillBroken, JournalDamaged, NewerJournal.
    """
    journal = _unfinished(site)
    if journal is None:
        return None
    try:
        if _is_carried_out(journal, site):
            settle(journal, site)
            clean_up(journal, site, is_recorded=True, spare=spare_roots(journal))
            return Recovered(action=journal.action, outcome="finished", left=())
        left = undo(journal, site)
        return Recovered(action=journal.action, outcome="undone", left=left)
    except (OSError, RellumError, sqlite3.Error) as error:
        raise StillBroken(
            f"'{journal.action}' was interrupted and cannot be finished: {error}",
            hint="Nothing is lost. Fix the cause and run any Rellum command on this pack again.",
        ) from error


def _unfinished(site: Site) -> Journal | None:
    """Return the journal of an interrupted change; where it is not whole, by its second copy if there is one.

    Raises JournalDamaged, NewerJournal.
    """
    path, copy = site.home.journal_file, second_journal(site.roots.game_folder)
    try:
        journal, damage = read_journal(path), None
    except JournalDamaged as error:
        journal, damage = None, error
    if (journal and journal.is_ready) or not os.path.isfile(copy):
        if damage:
            raise damage
        return journal
    try:
        second = read_journal(copy)
    except JournalDamaged as error:
        second, damage = None, damage or error
    if second is None or not second.is_ready or second.pack_id != site.state.adopted().pack_id:
        if damage:
            raise damage
        if journal:  # a copy was begun, so that the journal had been whole
            raise JournalDamaged(salvage_of(path), path)
        return None  # of a pack that is gone, or of one that kept this game before
    with open(copy, "rb") as file:
        site.disk.write_durably(path, file.read())
    return second


def _is_carried_out(journal: Journal, site: Site) -> bool:
    """Carry a change out if possible; return whether it is recorded. If not, take it back."""
    if site.state.has_change(journal.id):
        return True
    if not journal.is_ready or journal.is_undoing:
        return False
    try:
        carry_out(journal, site)
    except (OSError, RellumError, sqlite3.Error):
        return site.state.has_change(journal.id)
    return True
