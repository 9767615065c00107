"""After an interruption: find the journal, finish the change or take it back, and say so."""

from __future__ import annotations

import os
import sqlite3
from dataclasses import dataclass
from typing import Literal

from rellum.core.change.carry_out import clean_up, finish, settle, spare_roots, undo
from rellum.core.change.execute import StillBroken
from rellum.core.change.journal import read_journal
from rellum.core.change.site import Site
from rellum.core.errors import RellumError
from rellum.core.paths import PlacePath


@dataclass(frozen=True, slots=True, kw_only=True)
class Recovered:
    """What was found and done. ``left`` are files that somebody else changed in between."""

    action: str
    outcome: Literal["finished", "undone"]
    left: tuple[PlacePath, ...]


def recover(site: Site) -> Recovered | None:
    """Bring an interrupted change to its end, if there is one. Raises StillBroken."""
    path = site.home.journal_file
    if not os.path.exists(path):
        return None
    journal = read_journal(path)
    if journal is None:  # not even the first line was whole: nothing had begun
        site.disk.remove_durably(path)
        return None
    try:
        if journal.is_ready and site.state.has_change(journal.id):
            settle(journal, site)
            clean_up(journal, site, spare=spare_roots(journal))
            return Recovered(action=journal.action, outcome="finished", left=())
        if journal.is_ready and not journal.is_undoing:
            try:
                finish(journal, site)
                return Recovered(action=journal.action, outcome="finished", left=())
            except (OSError, RellumError, sqlite3.Error):
                left = undo(journal, site)
                return Recovered(action=journal.action, outcome="undone", left=left)
        left = undo(journal._replace(is_undoing=True), site)
        return Recovered(action=journal.action, outcome="undone", left=left)
    except (OSError, sqlite3.Error) as error:
        raise StillBroken(
            f"'{journal.action}' was interrupted and cannot be brought to an end: {error}",
            hint="Nothing is lost. Mend the cause and call any Rellum command on this pack again.",
        ) from error
