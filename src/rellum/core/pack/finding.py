"""Finding the pack that a folder belongs to, so that commands work from anywhere in a pack or its game."""

from __future__ import annotations

import os

from rellum.core.folder.stamps import MARKER_NAME
from rellum.core.pack.home import PACK_FILE


def find_pack(start: str) -> str:
    """Return the pack that a folder lies in, or whose game it lies in; the folder itself where there is none.

    Upwards from the folder, the first rellum.toml counts, or the first game that a pack keeps.
    """
    folder = os.path.abspath(start)
    while not os.path.isfile(os.path.join(folder, PACK_FILE)):
        if os.path.isfile(os.path.join(folder, MARKER_NAME)) and (owner := _owner_of(folder)):
            return owner
        above = os.path.dirname(folder)
        if above == folder:
            return start
        folder = above
    return folder


def _owner_of(game_folder: str) -> str:
    """Return the pack that the marker in a game folder names, if that keeps this folder and not another.

    A copy of the game has the marker, too, and is nobody's.
    """
    import tomllib

    from rellum.core.pack.home import PackHome
    from rellum.core.pack.peek import game_folder_of

    try:
        with open(os.path.join(game_folder, MARKER_NAME), "rb") as file:
            owner = str(tomllib.loads(file.read(65536).decode("utf-8")).get("pack", ""))
        if os.path.samefile(game_folder, game_folder_of(PackHome(owner))):
            return owner
    except (OSError, ValueError):
        pass
    return ""
