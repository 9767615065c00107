"""A copy of a game, to be changed instead of it.

Blocks are shared only by the file system itself (reflinks), where writing to one leaves the other as it
is. Hard links would not: a game, or a tool, that writes into a file would write into both.
"""

from __future__ import annotations

import errno
import os
import shutil
from collections.abc import Iterable

from rellum.core.durable import bytes_on_disk
from rellum.core.errors import UserError
from rellum.core.folder.listing import list_folder
from rellum.core.progress import Listener, Progress, silent
from rellum.core.values.paths import PlacePath, Roots


class CannotCopy(UserError):
    """The copy of the game cannot be made there."""

    code = "cannot-copy"


def copy_game(game: str, target: str, listen: Listener = silent) -> None:
    """Copy a game folder with modes, times and links; whole under its name, or not at all.

    Raises CannotCopy.
    """
    target = os.path.abspath(target)
    if os.path.lexists(target) and (not os.path.isdir(target) or os.listdir(target)):
        raise CannotCopy(
            f"{target} already exists and is not empty", hint="Name a new folder for the copy."
        )
    unfinished = target + UNFINISHED
    try:
        shutil.rmtree(unfinished, ignore_errors=True)
        _copy(game, unfinished, listen)
        if os.path.isdir(target):
            os.rmdir(target)
        os.rename(unfinished, target)
    except OSError as error:
        shutil.rmtree(unfinished, ignore_errors=True)
        raise CannotCopy(
            f"the game cannot be copied to {target}: {error.strerror}: {error.filename}",
            hint="Nothing of it was kept. Fix that and try again.",
        ) from error


def _copy(game: str, target: str, listen: Listener) -> None:
    entries = list_folder(game)
    source, there = Roots(game), Roots(target)
    files = [each for each in entries if each.kind == "file"]
    total = sum(each.size for each in files)
    os.makedirs(target)
    example = source.absolute(PlacePath(files[0].path)) if files else ""
    refuse_without_room(target, [each.size for each in files], example)
    done = 0
    for number, each in enumerate(entries):
        path = PlacePath(each.path)
        if each.kind == "folder":
            os.makedirs(there.absolute(path), exist_ok=True)
        elif each.kind == "link":
            os.symlink(each.target, there.absolute(path))
            shutil.copystat(source.absolute(path), there.absolute(path), follow_symlinks=False)
        elif each.kind == "file":
            copy_file(source.absolute(path), there.absolute(path))
            done += each.size
            listen(
                Progress(
                    stage="copying",
                    files=number,
                    total_files=len(entries),
                    bytes=done,
                    total_bytes=total,
                )
            )
    for each in reversed(entries):  # the inner first: making files in a folder gives it a new time
        if each.kind == "folder":
            shutil.copystat(
                source.absolute(PlacePath(each.path)), there.absolute(PlacePath(each.path))
            )


UNFINISHED = ".rellum-new"


def refuse_without_room(folder: str, sizes: Iterable[int], example: str = "") -> None:
    """Refuse to fill a disk: there must be room for files of these sizes, in whole blocks.

    ``example`` is one that will be copied: where the copy shares its blocks, no room is needed. Raises
    OSError.
    """
    needed, free = bytes_on_disk(sizes, folder), shutil.disk_usage(folder).free
    if needed > free and not (example and _shares_blocks(example, folder)):
        words = f"{needed:,} bytes are needed, and the disk has {free:,} free"
        raise OSError(errno.ENOSPC, words, folder)


def _shares_blocks(file: str, folder: str) -> bool:
    from rellum.core.shelf.intake import reflink

    probe = os.path.join(folder, "probe" + UNFINISHED)
    try:
        return reflink(file, probe)
    finally:
        if os.path.lexists(probe):
            os.unlink(probe)


def copy_file(source: str, target: str) -> None:
    """Copy a file with mode and times; sharing its blocks where the file system can. Raises OSError."""
    from rellum.core.shelf.intake import reflink

    if os.path.lexists(target):
        os.unlink(target)
    if not reflink(source, target):
        shutil.copyfile(source, target)
    shutil.copystat(source, target)
