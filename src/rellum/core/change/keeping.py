"""Keeping the settings for a checkpoint: they change between Rellum's changes, by the player's hand."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator

from rellum.core.folder.stamps import STAGING_NAME
from rellum.core.hashing import hash_file
from rellum.core.pack.site import Site
from rellum.core.pack.state import State
from rellum.core.pack.state_change import SettingRow
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath, Roots, below, is_in_game, is_text, root_of

SMALL = 64 << 10
"""Bytes; settings up to this size are read at every checkpoint."""

LARGEST = 16 << 20
"""Bytes; a larger file in a place of the player's is not kept."""


def keep_settings(site: Site) -> tuple[SettingRow, ...]:
    """Copy the settings into the store of originals, durably, and return what they are.

    These are laid files with a role, and all files of the places of settings and saves, wherever they lie
    (saves only go back where that is asked for). One that
    is as the newest checkpoint has it, or as it was laid or adopted, is neither read nor copied. Raises
    OSError, FolderChanged.
    """
    known = site.state.checkpoints.settings()
    store = site.originals
    found: list[SettingRow] = []
    copied: list[str] = []
    for path in settings_paths(site.state, site.roots, site.players_places):
        file = site.roots.absolute(path)
        try:
            status = os.lstat(file)
        except (FileNotFoundError, NotADirectoryError):
            continue
        if not stat.S_ISREG(status.st_mode) or status.st_size > LARGEST:
            continue
        before = known.get(path)
        # A small file is read all the same: size and time can be those of another content.
        trusts = status.st_size > SMALL
        if (
            trusts
            and before
            and (before.size, before.mtime_ns) == (status.st_size, status.st_mtime_ns)
        ):
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


def settings_paths(state: State, roots: Roots, places: Iterable[PlacePath]) -> list[PlacePath]:
    """Return the paths of all that the player writes: laid files with a role, and what those places hold."""
    inside = {path for place in places for path in _in_place(roots, place)}
    plain = {path for path, row in state.laid(inside).items() if not row.role}
    return sorted({*state.laid_with_role(), *inside} - plain)


def _in_place(roots: Roots, place: PlacePath) -> Iterator[PlacePath]:
    if not (is_in_game(place) or root_of(place) in roots.outside):
        return
    folder = roots.absolute(place)
    others = set(roots.outside.values()) - {folder}  # places have names of their own
    for inside, folders, names in os.walk(folder):
        folders[:] = [
            each
            for each in folders
            if each != STAGING_NAME and os.path.join(inside, each) not in others
        ]
        relative = os.path.relpath(inside, folder).replace(os.sep, "/")
        here = place if relative == "." else below(place, relative)
        yield from (below(here, name) for name in names if is_text(name))
