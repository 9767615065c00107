"""A look into the state of a pack that somebody else may hold: read-only, and never a fault."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import closing

from rellum.core.pack.checkpoints import Checkpoints
from rellum.core.pack.home import PackHome
from rellum.core.pack.state_change import PackTexts


def lasting_texts(home: PackHome) -> Iterator[PackTexts]:
    """Yield the texts that the game of a pack was laid by, and those of its named and good checkpoints.

    Nothing where there is no state, or none that can be read.
    """
    if not os.path.isfile(home.state_file):
        return
    quoted = home.state_file.replace("%", "%25").replace("?", "%3f").replace("#", "%23")
    try:
        with closing(sqlite3.connect(f"file:{quoted}?mode=ro", uri=True, timeout=1)) as database:
            checkpoints = Checkpoints(database)
            found = [checkpoints.texts_in_force()]
            found += [
                checkpoints.texts_of(each.number)
                for each in checkpoints.all()
                if each.name or each.good
            ]
    except sqlite3.Error:
        return
    yield from found
