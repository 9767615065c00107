"""What ``status`` tells, said again from memory while pack and game stay as they were.

Reading rellum.toml, rellum.lock and the sheet through all that they may hold takes longer than everything
else; ``core.actions.change.status`` is imported only where something is to be worked out.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from typing import TYPE_CHECKING, NamedTuple

from rellum import __version__
from rellum.core.change.differing import look_of
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.folder.differences import Look
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, TRIALS_FILE
from rellum.core.pack.remembered import Mark, mark_of, recall, remember
from rellum.core.pack.session import Session

if TYPE_CHECKING:
    from rellum.core.actions.change.status import Status

_QUESTION = "status"
_FORMAT = 2
"""Of what ``tell`` says; it may not be said again where that is another now."""


class Told(NamedTuple):
    """What was told of a pack; ``free_bytes`` is what the disk of the game has left now."""

    text: str
    free_bytes: int


def told_status(request: Request, tell: Callable[[Status], str]) -> Told:
    """Return what ``tell`` says of how a pack stands. Raises what opening the pack and reading it can raise.

    ``tell`` is asked only if something changed since it was asked last, or if something is wrong. What it
    says must follow from the status alone.
    """
    with open_pack(request) as opened:
        look = look_of(opened)
        mark = _mark(opened, look)
        text = recall(opened.home, _QUESTION, mark)
        if text is None:
            from rellum.core.actions.change.status import status_of

            found = status_of(opened, look.differences(), request.shelf_folder)
            text = tell(found)
            if found.is_quiet and not opened.state.suspects():
                remember(opened.home, _QUESTION, mark, text)
        return Told(text, shutil.disk_usage(opened.roots.game_folder).free)


def _mark(opened: Session, look: Look) -> Mark:
    """Return the mark of everything that a status is made from, where all is as the line-up says.

    The sheet and the cards are in it by the rules that the state keeps of them.
    """
    home = opened.home
    own = (
        "state.db",
        "originals",
        "plays.jsonl",
        "hunt.jsonl",
        os.path.join("backups", "backups.db"),
    )
    files = [
        os.path.join(home.folder, each) for each in (PACK_FILE, LOCK_FILE, TRIALS_FILE, "variants")
    ]
    files += [os.path.join(home.state_folder, each) for each in own]
    roots = (opened.roots.game_folder, sorted(opened.roots.outside.items()))
    return mark_of(files, __version__, _FORMAT, home, roots, look.mark)
