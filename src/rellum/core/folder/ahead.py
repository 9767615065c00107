"""Reading the game folder ahead: by a second process, while this one still imports its interface.

A check of a large game is hardly more than reading sizes and times, and half of the wait for it would be
for imports. The second process begins with the first part of the folder; when this process comes to it, it
begins with the last part, until they meet. Which parts are taken stands in memory that both share; a part
that both take at once is read twice, and no harm is done. ``ahead_process`` begins it.

Only a shortcut: what was read ahead counts if nothing was changed since by a Rellum (the last change is
the same), and folders that differ are read again.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

MOST_PARTS = 4096
"""Parts beyond this are left to the first process."""

Token = tuple[str, str]
"""Where the game folder is, and the last change that was recorded."""


class Claims:
    """Which parts are taken, in memory shared with a process that is forked off."""

    def __init__(self) -> None:
        import mmap

        self._taken = mmap.mmap(-1, MOST_PARTS)

    def take(self, number: int) -> bool:
        """Take a part, unless it is taken."""
        if number < MOST_PARTS:
            if self._taken[number]:
                return False
            self._taken[number] = 1
        return True


class Ahead(NamedTuple):
    """A process that reads ahead: where its answer comes from, and what it has taken."""

    child: int
    answer: int
    claims: Claims


_begun: dict[str, Ahead] = {}


def note_begun(state_file: str, ahead: Ahead) -> None:
    """Note that reading the folder of the pack with this state has begun."""
    _begun[os.path.abspath(state_file)] = ahead


def begun(state_file: str) -> Ahead | None:
    """Return what was begun for a state, once."""
    return _begun.pop(os.path.abspath(state_file), None)


def token_of(database: Any) -> Token:
    """Return what must be the same for what was read ahead to count. ``database``: an open state."""
    [folder] = database.execute("SELECT folder FROM adopted").fetchone()
    last = database.execute("SELECT id FROM change ORDER BY rowid DESC LIMIT 1").fetchone()
    return folder, last[0] if last else ""


def work(
    parts: Sequence[str],
    claims: Claims,
    scan: Callable[[list[str]], Any],
    *,
    from_end: bool = False,
) -> list[Any]:
    """Scan parts one after another, from the first or from the last, as long as there are any."""
    numbers = range(len(parts))
    found = []
    for number in reversed(numbers) if from_end else numbers:
        if claims.take(number):
            found.append(scan([parts[number]]))
    return found


def collect(ahead: Ahead, token: Token) -> list[Any] | None:
    """Return what the other process found; None where that does not count."""
    import pickle

    with open(ahead.answer, "rb") as pipe:
        answer = pipe.read()
    os.waitpid(ahead.child, 0)
    if not answer:
        return None
    other, result = pickle.loads(answer)
    return result if other == token else None
