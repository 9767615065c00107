"""A feed as one file: a zip whose members are stored, so that it is read where it lies, by ranges."""

from __future__ import annotations

import os

from rellum.core.errors import UserError
from rellum.core.feed.reading import NotInFeed
from rellum.core.shelf.folder_pack import Packed, write_zip


class NoFolder(UserError):
    """A feed that lies in no folder cannot be made one file or a torrent."""

    code = "no-feed-folder"


def feed_folder(address: str) -> str:
    """Return the folder of a feed, of which one file or a torrent can be made. Raises NoFolder."""
    folder = address.removeprefix("file://")
    if "://" in folder:
        raise NoFolder(
            f"one file or a torrent is made from a feed in a folder, and {address} is none",
            hint="Publish into a folder as well: rellum publish FOLDER",
        )
    return os.path.abspath(folder)


def write_bundle(folder: str, target: str) -> int:
    """Write all objects of a feed in a folder into one file; return its size. Raises NotInFeed, OSError."""
    if not os.path.isfile(os.path.join(folder, "metadata", "timestamp.json")):
        raise NotInFeed(f"{folder} is no feed", hint="Publish into it first.")
    files = []
    for above, _, names in os.walk(folder):
        for name in names:
            path = os.path.join(above, name)
            if os.path.abspath(path) == os.path.abspath(target):  # made before, in the feed itself
                continue
            files.append(Packed(os.path.relpath(path, folder).replace(os.sep, "/"), path))
    unfinished = f"{target}.rellum-new"
    try:
        write_zip(sorted(files), unfinished, lambda _: False)
        os.replace(unfinished, target)
    finally:
        if os.path.exists(unfinished):
            os.unlink(unfinished)
    return os.path.getsize(target)
