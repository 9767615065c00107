"""A look into the state of a pack that somebody else may hold: read-only, and never a fault."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager

from rellum.core.pack.checkpoints import Checkpoints
from rellum.core.pack.home import PackHome
from rellum.core.pack.state_change import PackTexts


def lasting_texts(home: PackHome) -> Iterator[PackTexts]:
    """Yield the texts that the game of a pack was laid by, and those of its named and good checkpoints.

    Nothing where there is no state, or none that can be read.
    """
    try:
        with _reading(home) as database:
            checkpoints = Checkpoints(database)
            found = [checkpoints.texts_in_force()]
            found += [
                checkpoints.texts_of(each.number)
                for each in checkpoints.all()
                if each.name or each.good
            ]
    except (sqlite3.Error, OSError):
        return
    yield from found


def checkpoint_names(home: PackHome) -> list[str]:
    """Return the names of checkpoints, or their numbers; nothing where these cannot be read."""
    try:
        with _reading(home) as database:
            rows = database.execute("SELECT number, name FROM checkpoint ORDER BY number DESC")
            return [name or str(number) for number, name in rows]
    except (sqlite3.Error, OSError):
        return []


def game_folder_of(home: PackHome) -> str:
    """Return the game folder that a pack keeps; an empty text where that cannot be read."""
    try:
        with _reading(home) as database:
            return str(database.execute("SELECT folder FROM adopted").fetchone()[0])
    except (sqlite3.Error, OSError, TypeError):
        return ""


@contextmanager
def _reading(home: PackHome) -> Iterator[sqlite3.Connection]:
    """Open the state for reading alone. Raises FileNotFoundError, sqlite3.Error."""
    if not os.path.isfile(home.state_file):
        raise FileNotFoundError(home.state_file)
    quoted = home.state_file.replace("%", "%25").replace("?", "%3f").replace("#", "%23")
    with closing(sqlite3.connect(f"file:{quoted}?mode=ro", uri=True, timeout=1)) as database:
        yield database
