"""What ``resolve`` tells, said again from memory while nothing changed of what a line-up is made from.

In a large catalog to find that nothing changed takes as long as to read all of it; what the file system says
of its files takes a hundredth of that.
"""

from __future__ import annotations

import os
from typing import Final

from rellum import __version__
from rellum.core.catalog.catalog_files import files_read
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, TRIALS_FILE, PackHome, pack_home
from rellum.core.pack.remembered import Mark, mark_of, recall, remember
from rellum.core.pack.remembered_catalogs import recall_catalogs, remember_catalogs

_RESOLVED: Final = "resolved"


def resolved_again(request: Request) -> str | None:
    """Return what was told of the line-up that stands, if resolving would find just the same.

    None where that is not sure. Raises what opening a pack can raise.
    """
    home = pack_home(request.pack_folder)
    own = _own_mark(home, request.shelf_folder)
    folders = recall_catalogs(home)
    if folders is None:
        return None
    told = recall(home, _RESOLVED, _mark(home, folders, request.shelf_folder))
    if told is None:
        return None  # the pack is opened by who resolves
    with open_pack(request):  # which may end an interrupted change
        return told if _own_mark(home, request.shelf_folder) == own else None


def note_resolved(home: PackHome, catalogs: tuple[str, ...], shelf_folder: str, told: str) -> None:
    """Remember what is to be told, as long as pack, catalogs, shelf and state stay as they are."""
    remember_catalogs(home, catalogs)
    remember(home, _RESOLVED, _mark(home, catalogs, shelf_folder), told)


def _mark(home: PackHome, catalogs: tuple[str, ...], shelf_folder: str) -> Mark:
    files = [*_own_files(home, shelf_folder), *files_read(catalogs)]
    return mark_of(files, __version__, home.folder, files)


def _own_mark(home: PackHome, shelf_folder: str) -> Mark:
    """Return the mark of pack, state and shelf alone: there may be ten thousand cards."""
    return mark_of(_own_files(home, shelf_folder))


def _own_files(home: PackHome, shelf_folder: str) -> list[str]:
    own = (PACK_FILE, LOCK_FILE, TRIALS_FILE)
    files = [os.path.join(home.folder, each) for each in own]
    files.append(home.state_file)
    return files + [os.path.join(shelf_folder, name) for name in ("shelf.db", "shelf.db-wal")]
