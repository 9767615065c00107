"""The marker in the game folder: it names the pack that owns the folder, so that two cannot fight.

It is laid and taken away like any other file of a change, by the same journal.
"""

from __future__ import annotations

import json
import os

from rellum.core.durable import write_durably
from rellum.core.errors import UserError
from rellum.core.folder.stamps import MARKER_NAME
from rellum.core.hashing import hash_bytes
from rellum.core.pack.home import PackHome
from rellum.core.values.content import Content, Laid
from rellum.core.values.owners import RELLUM
from rellum.core.values.paths import GAME_PREFIX, PlacePath, Roots

MARKER_PATH = PlacePath(GAME_PREFIX + MARKER_NAME)


class FolderOwned(UserError):
    """The game folder belongs to another pack."""

    code = "folder-owned"


def marker_bytes(home: PackHome, pack_id: str) -> bytes:
    """Return the marker's content for a pack."""
    return (
        "# A Rellum pack keeps this game folder. Change it through that pack.\n"
        f"pack = {json.dumps(home.folder, ensure_ascii=False)}\n"
        f"id = {json.dumps(pack_id)}\n"
    ).encode()


def marked_id(folder: str) -> str:
    """Return the id in the marker of a folder; empty where there is none."""
    return _in_marker(folder, "id")


def marked_pack(folder: str) -> str:
    """Return the pack's folder in the marker of a folder; empty where there is none."""
    return _in_marker(folder, "pack")


def _in_marker(folder: str, key: str) -> str:
    try:
        with open(Roots(folder).absolute(MARKER_PATH), "rb") as file:
            return str(_read(file.read(65536)).get(key, ""))
    except OSError:
        return ""


def _read(content: bytes) -> dict[str, object]:
    import tomllib

    try:
        return tomllib.loads(content.decode("utf-8"))
    except ValueError:
        return {}


def refuse_other_owner(roots: Roots, home: PackHome, pack_id: str) -> None:
    """Raise FolderOwned where the marker names another pack than this one.

    ``pack_id`` is empty while a pack adopts. A damaged marker names nobody: the pack that keeps the folder by
    its state writes it again.
    """
    path = roots.absolute(MARKER_PATH)
    try:
        with open(path, "rb") as file:
            content = file.read(65536)
    except FileNotFoundError:
        return
    if pack_id and content == marker_bytes(home, pack_id):
        return
    marker = _read(content)
    if pack_id and not ("pack" in marker and "id" in marker):
        return
    owner = str(marker.get("pack", "an unknown place"))
    owner_is_there = os.path.exists(os.path.join(owner, ".rellum", "state.db"))
    if pack_id and marker.get("id") == pack_id:
        if not owner_is_there:
            return  # the pack was moved
        raise FolderOwned(
            f"{roots.game_folder} belongs to the pack in {owner}, of which this one is a copy",
            hint="Two packs cannot keep one game: work in that pack, or adopt another copy of the game "
            "in a new folder.",
        )
    if owner_is_there:
        hint = (
            f"Work in that pack, or give the game back with 'rellum restore --all --pack {owner}'."
        )
    else:
        hint = f"If that pack is gone for good, delete {path} and try again."
    raise FolderOwned(f"{roots.game_folder} belongs to the pack in {owner}", hint=hint)


def lay_marker(home: PackHome, roots: Roots, pack_id: str) -> Laid:
    """Write the marker of a pack that begins with a game folder, durably. Raises OSError."""
    path, content = roots.absolute(MARKER_PATH), marker_bytes(home, pack_id)
    write_durably(path, content)
    status = os.stat(path)
    return Laid(
        path=MARKER_PATH,
        owner=RELLUM,
        content=Content(
            digest=hash_bytes(content),
            size=status.st_size,
            mode=status.st_mode & 0o7777,
            mtime_ns=status.st_mtime_ns,
        ),
        under=None,
    )
