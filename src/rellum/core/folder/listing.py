"""Listing the game folder entry by entry: for adopting, where everything is new."""

from __future__ import annotations

import os
import stat
from dataclasses import dataclass

from rellum.core.folder.scan import EntryKind, kind_of
from rellum.core.folder.stamps import OWN_PREFIX
from rellum.core.values.paths import GAME


@dataclass(frozen=True, slots=True, kw_only=True)
class FolderEntry:
    """One thing in the game folder. ``size`` in bytes, ``mtime_ns`` in ns since the epoch."""

    path: str
    kind: EntryKind
    size: int
    mode: int
    mtime_ns: int
    target: str


def list_folder(root: str) -> list[FolderEntry]:
    """Return everything under ``root`` by path, sorted; links are not followed. Raises OSError.

    What Rellum wrote there for its own sake is left out.
    """
    entries: list[FolderEntry] = []
    waiting = [(root, GAME)]
    while waiting:
        folder, prefix = waiting.pop()
        with os.scandir(folder) as found:
            for each in found:
                if prefix == GAME and each.name.startswith(OWN_PREFIX):
                    continue
                status = each.stat(follow_symlinks=False)
                path = f"{prefix}/{each.name}"
                kind = kind_of(status.st_mode)
                if kind == "folder":
                    waiting.append((each.path, path))
                entries.append(
                    FolderEntry(
                        path=path,
                        kind=kind,
                        size=status.st_size if kind == "file" else 0,
                        mode=stat.S_IMODE(status.st_mode),
                        mtime_ns=status.st_mtime_ns,
                        target=os.readlink(each.path) if kind == "link" else "",
                    )
                )
    entries.sort(key=lambda entry: entry.path)
    return entries
