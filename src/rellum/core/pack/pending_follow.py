"""A version of a feed that has come into the pack, and not yet into the game.

``follow`` moves rellum.toml, rellum.lock and what lies in the folder ``feed``; then the game. Until that is
done, what stood before lies in ``feed/old``. Where the game does not follow (somebody says no, the disk is
full, the process is killed), all of it comes back; where archives must be got by hand first, both wait, and
``apply`` or ``follow`` goes on.

``feed/old`` holds the folders ``pack`` and ``catalog`` of the version before, and ``own``: the pack's files
and the index as they were, and under ``written`` what ``follow`` made of the first. ``own`` is there before
anything moves.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Mapping
from typing import TYPE_CHECKING, Final

from rellum.core.durable import write_durably
from rellum.core.notices import note
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, TRIALS_FILE, PackHome, read_text

if TYPE_CHECKING:
    from rellum.core.pack.state import State

FOLDER: Final = "feed"
PARTS: Final = ("pack", "catalog")
_FILES: Final = (PACK_FILE, LOCK_FILE, TRIALS_FILE)
_WAITS: Final = "waits"


def is_pending(home: PackHome) -> bool:
    """Whether a version has come into the pack and not yet into the game."""
    return os.path.isdir(_own(home))


def keep_before(home: PackHome) -> None:
    """Keep what stands, before a version comes. Raises OSError."""
    own, incoming = _own(home), _old(home) + ".new"
    shutil.rmtree(incoming, ignore_errors=True)
    os.makedirs(os.path.join(incoming, "own"))
    _copy(home.folder, os.path.join(incoming, "own"), _FILES)
    folder = os.path.join(home.folder, FOLDER)
    _copy(folder, os.path.join(incoming, "own"), _indexes(folder))
    shutil.rmtree(_old(home), ignore_errors=True)
    os.rename(incoming, os.path.dirname(own))


def note_written(home: PackHome) -> None:
    """Note what ``follow`` made of the pack's files: an edit since is a person's. Raises OSError."""
    if not is_pending(home):
        return
    written = os.path.join(_own(home), "written")
    os.makedirs(written, exist_ok=True)
    _copy(home.folder, written, _FILES)


def let_wait(home: PackHome) -> None:
    """Let a version wait for archives that a person has to get. Raises OSError."""
    if is_pending(home):
        write_durably(os.path.join(_own(home), _WAITS), b"")


def settle_pending(home: PackHome) -> None:
    """Let the new version stay: the game has it. Raises OSError."""
    if is_pending(home):
        shutil.rmtree(_own(home))  # first: from here on nothing is taken back
    shutil.rmtree(_old(home), ignore_errors=True)


def take_back(home: PackHome) -> None:
    """Put everything back as it was before the version came. Raises OSError."""
    folder, own = os.path.join(home.folder, FOLDER), _own(home)
    if not is_pending(home):
        return
    for part in PARTS:
        if os.path.isdir(os.path.join(_old(home), part)):
            shutil.rmtree(os.path.join(folder, part), ignore_errors=True)
            os.rename(os.path.join(_old(home), part), os.path.join(folder, part))
    before = _indexes(own)
    for name in set(_indexes(folder)) - set(before):
        os.unlink(os.path.join(folder, name))
    _copy(own, folder, before)
    for name in _FILES:
        if os.path.exists(os.path.join(own, name)):
            _copy(own, home.folder, (name,))
        elif os.path.exists(os.path.join(home.folder, name)):
            os.unlink(os.path.join(home.folder, name))
    shutil.rmtree(os.path.join(folder, "new"), ignore_errors=True)
    settle_pending(home)


def reopen_pending(home: PackHome) -> None:
    """Take back a version that waits, before it or another one comes; one that was edited stays. Raises
    OSError.
    """
    written = os.path.join(_own(home), "written")
    if os.path.isdir(written) and _texts(written) != _texts(home.folder):
        settle_pending(home)
    take_back(home)


def end_pending(home: PackHome, state: State) -> None:
    """End what an interrupted ``follow`` left: the version stays where the game has it, or somebody edited
    the pack since; else all is taken back. One that waits goes on waiting. Raises OSError.
    """
    if os.path.exists(os.path.join(_own(home), _WAITS)):
        return
    now = {name: read_text(os.path.join(home.folder, name)) for name in _FILES}
    if _texts(_own(home)) != now and _is_in_game(state, now):
        settle_pending(home)
        return
    written = os.path.join(_own(home), "written")
    if os.path.isdir(written) and _texts(written) != now:
        settle_pending(home)
        note(
            "an interrupted 'follow' was left as it is, because rellum.toml or rellum.lock was edited since"
        )
        return
    take_back(home)
    note("an interrupted 'follow' was taken back: run 'rellum follow' again")


def _is_in_game(state: State, now: Mapping[str, str | None]) -> bool:
    return dict(state.checkpoints.texts_in_force()).get(LOCK_FILE) == now[LOCK_FILE]


def _texts(folder: str) -> dict[str, str | None]:
    return {name: read_text(os.path.join(folder, name)) for name in _FILES}


def _indexes(folder: str) -> tuple[str, ...]:
    names = os.listdir(folder) if os.path.isdir(folder) else ()
    return tuple(name for name in names if name.startswith("index-"))


def _copy(source: str, target: str, names: tuple[str, ...]) -> None:
    for name in names:
        if os.path.exists(os.path.join(source, name)):
            with open(os.path.join(source, name), "rb") as file:
                write_durably(os.path.join(target, name), file.read())


def _old(home: PackHome) -> str:
    return os.path.join(home.folder, FOLDER, "old")


def _own(home: PackHome) -> str:
    return os.path.join(_old(home), "own")
