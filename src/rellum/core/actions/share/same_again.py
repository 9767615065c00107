"""Whether anything changed since the pack was published last: found by stamps, before anything is read.

A curator who publishes by a timer, or to be sure, should not wait for what is the same. Only for feeds in
folders: of others, their own word must be asked.
"""

from __future__ import annotations

import json
import os
from typing import NamedTuple

from rellum import __version__
from rellum.core.catalog.catalog_files import files_read
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.hashing import hash_bytes
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, TRIALS_FILE, PackHome
from rellum.core.pack.remembered import Mark, files_below, mark_of, recall, remember
from rellum.core.pack.remembered_catalogs import recall_catalogs, remember_catalogs


class SameAgain(NamedTuple):
    """What was published last, and is still all that there is to publish. As in ``publishing.Published``."""

    version: int
    fingerprint: str
    file_count: int
    content_bytes: int
    deltas: tuple[int, ...]
    line_up: str
    tree: str
    release_count: int
    torrent: str | None = None


def same_again(request: Request, to: str) -> SameAgain | None:
    """Return what was published to a folder last, if nothing changed since; None where that is not sure."""
    with open_pack(request) as opened:
        home = opened.home
        folders = recall_catalogs(home)
        if folders is None or "://" in to:
            return None
        told = recall(home, _question(to), _mark(home, folders, to))
        if told is None:
            return None
        said = SameAgain(*json.loads(told))
        return said._replace(deltas=tuple(said.deltas))


def note_published(home: PackHome, catalogs: tuple[str, ...], to: str, same: SameAgain) -> None:
    """Remember what was published, as long as pack, catalogs and feed stay as they are."""
    if "://" not in to:
        remember_catalogs(home, catalogs)
        remember(home, _question(to), _mark(home, catalogs, to), json.dumps(same))


def _question(to: str) -> str:
    return f"published-{hash_bytes(os.path.abspath(to).encode('utf-8', 'surrogateescape'))[:16]}"


def _mark(home: PackHome, catalogs: tuple[str, ...], to: str) -> Mark:
    """Return the mark of all that a publication is made from, and of the feed's newest word."""
    own = (PACK_FILE, LOCK_FILE, TRIALS_FILE, os.path.join(".rellum", "state.db"))
    files = [os.path.join(home.folder, each) for each in own]
    files.append(os.path.join(to, "metadata", "timestamp.json"))
    files += files_read(catalogs)  # also where a folder in there is a link
    files += files_below(catalogs)  # baselines may lie anywhere
    return mark_of(files, __version__, home.folder, sorted(files))
