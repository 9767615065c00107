"""A folder as an archive: a stored zip in which the same files always give the same bytes."""

from __future__ import annotations

import os
import shutil
import stat
import zipfile
from collections.abc import Iterator
from typing import Final

from rellum.core.archives.model import ArchiveFault
from rellum.core.hashing import CHUNK_BYTES

_ONE_DATE: Final = (1980, 1, 1, 0, 0, 0)


def pack_folder(folder: str, target: str) -> None:
    """Write all files of a folder to the zip ``target``. Raises ArchiveFault, OSError."""
    found = sorted(_files(folder))
    if not found:
        raise ArchiveFault(f"{folder}: there is no file in this folder")
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED, strict_timestamps=False) as archive:
        for name, path in found:
            info = zipfile.ZipInfo(name, _ONE_DATE)
            info.create_system = 3
            executable = os.stat(path).st_mode & stat.S_IXUSR
            info.external_attr = (stat.S_IFREG | (0o755 if executable else 0o644)) << 16
            with open(path, "rb") as source, archive.open(info, "w", force_zip64=True) as member:
                shutil.copyfileobj(source, member, CHUNK_BYTES)


def _files(folder: str) -> Iterator[tuple[str, str]]:
    for above, folders, names in os.walk(folder):
        for name in [*folders, *names]:
            path = os.path.join(above, name)
            mode = os.lstat(path).st_mode
            if not (stat.S_ISREG(mode) or stat.S_ISDIR(mode)):
                what = "a link" if stat.S_ISLNK(mode) else "neither a file nor a folder"
                raise ArchiveFault(
                    f"{path}: is {what}; Rellum refuses the whole folder",
                    hint="Take it out of the folder, or put the file itself in its place.",
                )
            if stat.S_ISREG(mode):
                yield os.path.relpath(path, folder).replace(os.sep, "/"), path
