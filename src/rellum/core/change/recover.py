"""After an interruption: find the journal, finish the change or take it back, and say so."""

from __future__ import annotations

import os
import sqlite3
from dataclasses import dataclass
from typing import Literal

from rellum.core.change.carry_out import carry_out, clean_up, settle, spare_roots, undo
from rellum.core.change.execute import StillBroken
from rellum.core.change.journal import Journal
from rellum.core.change.journal_reading import read_journal
from rellum.core.errors import RellumError
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
    path = site.home.journal_file
    if not os.path.exists(path):
        return None
    journal = read_journal(path)
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


def _is_carried_out(journal: Journal, site: Site) -> bool:
    """Carry a change out if possible; return whether it is recorded. If not, take it back."""
    if not journal.is_ready:
        return False
    if site.state.has_change(journal.id):
        return True
    if journal.is_undoing:
        return False
    try:
        carry_out(journal, site)
    except (OSError, RellumError, sqlite3.Error):
        return site.state.has_change(journal.id)
    return True
