"""Reading the game folder ahead: by a second process, while this one still imports its interface.

A check of a large game is hardly more than reading sizes and times, and half of the wait for it would be
for imports. The second process begins with the first part of the folder; when this process comes to it, it
begins with the last part, until they meet. Which parts are taken stands in memory that both share; a part
that both take at once is read twice, and no harm is done.

Only a shortcut: what was read ahead counts if nothing was changed since by a Rellum (the last change is
the same), and folders that differ are read again.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

LARGE = 4_000_000
"""Bytes of the state from which on a second process is worth its start: about 15,000 files."""

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
        """Take a part, if it is still to be had."""
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


def begin(state_file: str) -> None:
    """Begin reading the folder of the pack with this state, where that is worth it and can be done."""
    try:
        worth_it = os.path.getsize(state_file) >= LARGE
    except OSError:
        return
    journal = os.path.join(os.path.dirname(state_file), "journal")
    if not worth_it or not hasattr(os, "fork") or os.path.exists(journal):
        return
    claims = Claims()
    read_end, write_end = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(read_end)
        _read_as_child(state_file, claims, write_end)
    os.close(write_end)
    _begun[os.path.abspath(state_file)] = Ahead(child, read_end, claims)


def begun(state_file: str) -> Ahead | None:
    """Return what was begun for a state, once."""
    return _begun.pop(os.path.abspath(state_file), None)


def _read_as_child(state_file: str, claims: Claims, write_end: int) -> None:
    """Read parts from the first on, send what was found, and leave without the parent's clean-up."""
    import pickle

    try:
        import sqlite3

        from rellum.core.folder.scan import Scanner

        database = sqlite3.connect(f"file:{_quoted(state_file)}?mode=ro", uri=True, timeout=0)
        token = token_of(database)
        scanner = Scanner(token[0], dict(database.execute("SELECT folder, rows FROM stamp")))
        result = work(scanner.parts, claims, scanner.scan)
        with open(write_end, "wb", closefd=False) as pipe:
            pipe.write(pickle.dumps((token, result), pickle.HIGHEST_PROTOCOL))
    except BaseException:  # the first process reads it all by itself then
        pass
    finally:
        os._exit(0)


def _quoted(path: str) -> str:
    return os.path.abspath(path).replace("%", "%25").replace("?", "%3f").replace("#", "%23")


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
