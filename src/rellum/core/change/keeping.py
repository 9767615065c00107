"""Keeping the settings for a checkpoint: they change between Rellum's changes, by the player's hand."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator

from rellum.core.change.site import Site
from rellum.core.folder.content import Content
from rellum.core.folder.stamps import STAGING_NAME
from rellum.core.hashing import hash_file
from rellum.core.pack.checkpoints import SettingRow
from rellum.core.paths import PlacePath, Roots, is_text

SETTINGS = PlacePath("@settings")
LARGEST = 16 << 20
"""Bytes; a larger file in the place of settings is none."""


def keep_settings(site: Site) -> tuple[SettingRow, ...]:
    """Copy the settings into the store of originals, durably, and return what they are.

    These are laid files with a role, and all files of the place ``@settings`` where that lies outside the
    game folder. One that is as the newest checkpoint has it is neither read nor copied. Raises OSError,
    FolderChanged.
    """
    known = site.state.checkpoints.settings()
    store = site.originals
    found: list[SettingRow] = []
    copied: list[str] = []
    for path in sorted({*site.state.laid_with_role(), *_in_settings(site.roots)}):
        file = site.roots.absolute(path)
        try:
            status = os.lstat(file)
        except (FileNotFoundError, NotADirectoryError):
            continue
        if not stat.S_ISREG(status.st_mode) or status.st_size > LARGEST:
            continue
        before = known.get(path)
        if before and (before.size, before.mtime_ns) == (status.st_size, status.st_mtime_ns):
            found.append((path, before))
            continue
        digest = hash_file(file)
        if not store.is_whole(digest):
            if not copied:
                site.disk.make_folder(store.folder)
            copied.append(store.put_copy(file, digest))
        mode = stat.S_IMODE(status.st_mode)
        content = Content(
            digest=digest, size=status.st_size, mode=mode, mtime_ns=status.st_mtime_ns
        )
        found.append((path, content))
    if copied:
        site.disk.flush(store.folder, copied, [store.folder, os.path.dirname(store.folder)])
    return tuple(found)


def _in_settings(roots: Roots) -> Iterator[PlacePath]:
    folder = roots.outside.get(SETTINGS)
    for inside, folders, names in os.walk(folder) if folder else ():
        if STAGING_NAME in folders:
            folders.remove(STAGING_NAME)
        relative = os.path.relpath(inside, folder).replace(os.sep, "/")
        here = SETTINGS if relative == "." else f"{SETTINGS}/{relative}"
        yield from (PlacePath(f"{here}/{name}") for name in names if is_text(name))
