"""Making the demo's folders: game, catalog, downloads, site, shelf and pack."""

from __future__ import annotations

import hashlib
import os
from dataclasses import dataclass

from rellum.core.errors import UserError
from rellum.demo.downloads import ALREADY_HERE, PAGES, SAVED_PAGE
from rellum.demo.game import SHEET, game_files
from rellum.demo.lagoon import LAGOON_LIGHTS
from rellum.demo.mods import TRIALS, demo_mods

VERSION = "1.6.0"
OLD_VERSION = "1.4.2"
NEXT_VERSION = "1.7.0"
KNOWN_VERSIONS = (VERSION, NEXT_VERSION)
_FILE_TIME = 1_714_564_800  # 2024-05-01 12:00 UTC, in seconds: the demo is the same every time


class FolderNotEmpty(UserError):
    """The demo only goes into a new or empty folder."""

    code = "folder-not-empty"


@dataclass(frozen=True, slots=True, kw_only=True)
class DemoPlaces:
    """The demo's folders, absolute."""

    root: str

    def folder(self, name: str) -> str:
        """Return the folder of that name: one of those that ``listing`` tells."""
        return os.path.join(self.root, name)

    def listing(self) -> list[tuple[str, str]]:
        """Return each folder with what it holds."""
        return [
            ("game", f"vanilla Fathomline {VERSION}"),
            ("old-game", f"what is left of Fathomline {OLD_VERSION}: its harbours"),
            ("player", "what the player has elsewhere: settings"),
            ("catalog", "its game sheet, a card for each mod, and trials"),
            ("downloads", "what the curator has downloaded already"),
            ("site", "what the stand-in download site serves"),
            ("shelf", "empty; set RELLUM_SHELF to it"),
            ("pack", "empty; 'rellum adopt ../game' begins there"),
        ]


def make(folder: str) -> DemoPlaces:
    """Make the demo's files in a new or empty folder. Raises FolderNotEmpty, OSError."""
    root = os.path.abspath(folder)
    if os.path.exists(root) and (not os.path.isdir(root) or os.listdir(root)):
        raise FolderNotEmpty(
            f"{root} already exists and is not empty",
            hint="Name a new folder for the demo.",
        )
    places = DemoPlaces(root=root)
    for name in ("shelf", "pack"):
        os.makedirs(places.folder(name))
    write_files(places.folder("game"), game_files(VERSION))
    os.chmod(os.path.join(places.folder("game"), "fathomline.py"), 0o755)
    mods = (*demo_mods(), LAGOON_LIGHTS)
    write_files(places.folder("old-game"), _old_game())
    write_files(places.folder("player"), {"settings/display.ini": b"[window]\nwide = yes\n"})
    write_files(
        places.folder("catalog"),
        {
            "games/fathomline.toml": SHEET.encode(),
            **{f"baselines/{v}.sha256": sums_of(game_files(v)) for v in KNOWN_VERSIONS},
            "trials.toml": TRIALS.encode(),
            **{f"cards/{mod.id}.toml": mod.card().encode() for mod in mods},
        },
    )
    offered = {
        file.name: file.content
        for mod in mods
        for release in mod.releases
        for file in release.files()
    }
    pages = {f"pages/{name}": content for name, content in PAGES.items()}
    write_files(places.folder("site"), {**offered, **pages})
    saved = {name: offered[original] for original, name in ALREADY_HERE.items()}
    write_files(places.folder("downloads"), {**saved, **SAVED_PAGE})
    return places


def sums_of(files: dict[str, bytes]) -> bytes:
    """Return the SHA-256 sums of files, as coreutils write them."""
    lines = (f"{hashlib.sha256(files[name]).hexdigest()}  {name}\n" for name in sorted(files))
    return "".join(lines).encode()


def _old_game() -> dict[str, bytes]:
    """Return what is left of an older game: enough to have something from it."""
    wanted = ("harbours/", "version.txt")
    return {n: c for n, c in game_files(OLD_VERSION).items() if n.startswith(wanted)}


def write_files(folder: str, files: dict[str, bytes]) -> None:
    """Write files, given by their paths under ``folder``, all with the same time."""
    for name, content in files.items():
        path = os.path.join(folder, *name.split("/"))
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "wb") as file:
            file.write(content)
        os.utime(path, (_FILE_TIME, _FILE_TIME))
