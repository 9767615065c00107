"""A folder's stamp: one short text that tells everything in it by name, size and time.

It is the folder's rows, sorted, joined by NUL. A row is ``name/size/mtime_ns`` for a file, ``name/``
for a folder, ``name//target`` for a link and ``name//`` for anything else. A slash and a NUL are the
two signs that no file name holds.
"""

from __future__ import annotations

import os
from collections.abc import Iterable

MARKER_NAME = ".rellum-owner.toml"
"""Rellum's marker at the top of the game folder."""

STAGING_NAME = ".rellum-staging"
"""Where a change stages its files, at the top of the game folder; in no stamp."""

OWN_PREFIX = ".rellum-"
"""How every name begins that Rellum writes at the top of a game folder for its own sake; never vanilla."""


def second_journal(game_folder: str) -> str:
    """Return where the second copy of a journal lies: beside the staged files, on the game's own disk."""
    return os.path.join(game_folder, STAGING_NAME, "journal")


def join_rows(rows: Iterable[str]) -> bytes:
    """Return the stamp that holds these rows."""
    return "\0".join(sorted(rows)).encode("utf-8", "surrogateescape")


def split_rows(stamp: bytes) -> list[str]:
    """Return the rows of a stamp."""
    return stamp.decode("utf-8", "surrogateescape").split("\0") if stamp else []
