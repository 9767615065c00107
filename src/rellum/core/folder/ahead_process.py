"""Beginning to read a game folder ahead: the second process, and when it is worth its start."""

from __future__ import annotations

import os

from rellum.core.folder.ahead import Ahead, Claims, note_begun, token_of, work

LARGE = 4_000_000
"""Bytes of the state from which on a second process is worth its start: about 15,000 files."""


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
    note_begun(state_file, Ahead(child, read_end, claims))


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
