"""Whether a plan can be carried out: room on each disk, and folders that can be written."""

from __future__ import annotations

import os
import shutil
from typing import NamedTuple

from rellum.core.change.operations import source_of
from rellum.core.change.plan import Plan
from rellum.core.durable import bytes_on_disk
from rellum.core.errors import UserError
from rellum.core.folder.stamps import STAGING_NAME
from rellum.core.pack.home import PackHome
from rellum.core.values.paths import Roots, root_of


class NoSpace(UserError):
    """The disk has too little room for the change."""

    code = "no-space"


class CannotWrite(UserError):
    """The game folder cannot be written."""

    code = "cannot-write"


class Space(NamedTuple):
    """Bytes that a plan needs on one disk, and that it has: on the one where there is least left.

    ``taken`` is what that takes in whole blocks of the disk.
    """

    needed: int
    free: int
    taken: int = 0


def refuse_no_folder(folder: str) -> None:
    """Make a folder outside the game in which a change will write. Raises CannotWrite."""
    try:
        os.makedirs(folder, exist_ok=True)
    except OSError as error:
        raise CannotWrite(
            f"{folder} cannot be used as a folder to write to: {error.strerror}",
            hint="Move the existing file away, then try again.",
        ) from error


def space_for(plan: Plan, home: PackHome, roots: Roots) -> Space:
    """Return the space for new files, and for what must be copied from one disk to another."""
    pack = os.stat(home.state_folder).st_dev
    needed: dict[int, list[int]] = {}
    folders = {pack: home.state_folder}
    devices: dict[str, int] = {}
    for each in plan.operations:
        root = root_of(each.path)
        if root not in devices:
            folder = existing(roots.folder_of(each.path))
            devices[root] = os.stat(folder).st_dev
            folders[devices[root]] = folder
        device = devices[root]
        if each.after and (source_of(each) is not None or device != pack):
            needed.setdefault(device, []).append(each.after.size)
        before = each.found.content
        if before and (device != pack or _has_more_names(roots.absolute(each.path))):
            needed.setdefault(pack, []).append(before.size)
    spaces = [
        Space(
            needed=sum(sizes),
            free=shutil.disk_usage(folders[device]).free,
            taken=bytes_on_disk(sizes, folders[device]),
        )
        for device, sizes in needed.items()
    ]
    if not spaces:
        return Space(needed=0, free=shutil.disk_usage(roots.game_folder).free)
    return min(spaces, key=lambda space: space.free - space.taken)


def _has_more_names(file: str) -> bool:
    """Whether a file has further names: it is copied into the store of originals then, not linked."""
    try:
        return os.lstat(file).st_nlink > 1
    except OSError:
        return False


def existing(folder: str) -> str:
    """Return a folder, or the nearest one above it that is there."""
    while not os.path.isdir(folder) and os.path.dirname(folder) != folder:
        folder = os.path.dirname(folder)
    return folder


def refuse_without_room(space: Space) -> None:
    """Raise NoSpace where a disk has too little room."""
    if space.taken > space.free:
        raise NoSpace(
            f"the change needs {space.taken:,} bytes, and the disk has {space.free:,} free",
            hint="Nothing was changed. Free some space and try again.",
        )


def refuse_unready(roots: Roots) -> None:
    """Refuse a folder that cannot be written, or where something stands in the way of staging."""
    for name, folder in (("the game folder", roots.game_folder), *roots.outside.items()):
        if not os.access(existing(folder), os.W_OK):
            raise CannotWrite(
                f"{name} {folder} cannot be written",
                hint="Nothing was changed. Change its permissions, or make its disk writable.",
            )
        staging = os.path.join(folder, STAGING_NAME)
        if os.path.lexists(staging):
            raise CannotWrite(
                f"{staging} is in the way: Rellum uses a folder of that name, and removes it afterwards",
                hint="Nothing was changed. Check what is in it, move it away, then try again.",
            )
