"""Where packs go wrong before they begin: what to warn of when a game folder is adopted."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator, Sequence
from contextlib import suppress

from rellum.core.folder.listing import FolderEntry
from rellum.core.folder.stamps import STAGING_NAME

LONG_PATH = 240
"""Characters; Windows programs often fail from 260 on, and mods bring longer names than the game."""

_SYSTEM_FOLDERS = ("/usr", "/bin", "/sbin", "/etc", "/lib", "/opt", "/System", "/Applications")
_SYSTEM_VARIABLES = ("ProgramFiles", "ProgramFiles(x86)", "ProgramW6432", "SystemRoot")

# Folders that cloud services keep in step are known by what the systems call them, by the names
# the common services give their own, and on Windows by the mark of a file not held locally.
_CLOUD_NAMES = (
    "cloudstorage",
    "mobile documents",
    "onedrive",
    "dropbox",
    "google drive",
    "nextcloud",
    "owncloud",
    "pclouddrive",
    "icloud drive",
    "icloud",
)
_RECALL_ON_ACCESS = 0x00400000


def warnings_for(game_folder: str, entries: Sequence[FolderEntry]) -> Iterator[str]:
    """Yield a sentence for each thing that may make trouble later."""
    if system := _system_folder(game_folder):
        yield (
            f"the game lies in {system}, which the system protects: "
            "writes may be refused or redirected; move the game elsewhere if you can"
        )
    if cloud := _cloud_folder(game_folder):
        yield (
            f"the game lies under {cloud}, which a cloud service seems to keep in step: "
            "it may put files back or take them away while Rellum works"
        )
    longest = max((len(game_folder) + len(entry.path) - 5 for entry in entries), default=0)
    if longest > LONG_PATH:
        yield (
            f"the longest path has {longest} characters, close to the 260 "
            "at which many programs fail; a shorter game folder is safer"
        )
    yield from _file_system_warnings(game_folder)
    if links := sum(entry.kind == "link" for entry in entries):
        yield f"{links} links in the game folder are noted but never followed or written through"
    if others := sum(entry.kind == "other" for entry in entries):
        yield f"{others} entries are neither files, folders nor links, and are left alone"


def _system_folder(folder: str) -> str:
    candidates = [os.environ.get(name, "") for name in _SYSTEM_VARIABLES]
    if sys.platform != "win32":
        candidates += _SYSTEM_FOLDERS
    for candidate in filter(None, candidates):
        if os.path.normcase(folder + os.sep).startswith(os.path.normcase(candidate + os.sep)):
            return candidate
    return ""


def _cloud_folder(folder: str) -> str:
    at = folder
    while (above := os.path.dirname(at)) != at:
        name = os.path.basename(at).lower()
        if any(name == known or name.startswith(known + " - ") for known in _CLOUD_NAMES):
            return at
        at = above
    attributes = getattr(os.stat(folder), "st_file_attributes", 0)
    return folder if attributes & _RECALL_ON_ACCESS else ""


def _file_system_warnings(folder: str) -> Iterator[str]:
    """Try what Rellum will do on this file system with two files of its own. Raises OSError."""
    own = os.path.join(folder, STAGING_NAME)  # what a kill leaves there is no file of the game
    os.makedirs(own, exist_ok=True)
    probe = os.path.join(own, f"probe-{os.getpid()}")
    second = probe + "-2"
    odd_time = 1_700_000_001_234_567_800
    try:
        with open(probe, "xb"):
            pass
        try:
            os.link(probe, second)
        except OSError:
            yield "the file system has no hard links: originals will be copied aside, which takes longer"
        os.utime(probe, ns=(odd_time, odd_time))
        if abs(os.stat(probe).st_mtime_ns - odd_time) >= 1_000_000_000:
            yield (
                "the file system's clock is coarse (a second or more): a file changed twice "
                "within that time may only be seen by 'rellum check --deep'"
            )
    finally:
        for name in os.listdir(own):
            if name.startswith("probe-"):  # an earlier try's, too, which was killed
                os.unlink(os.path.join(own, name))
        with suppress(OSError):  # an interrupted change has files there
            os.rmdir(own)
