"""A folder as an archive: a stored zip in which the same files always give the same bytes.

Stored, because two systems' libraries deflate the same bytes differently, and because what travels is packed
anyway: by whoever sends it.
"""

from __future__ import annotations

import os
import shutil
import stat
import unicodedata
import zipfile
from collections.abc import Callable, Iterator, Sequence
from typing import Final, NamedTuple

from rellum.core.archives.model import ArchiveFault
from rellum.core.hashing import CHUNK_BYTES
from rellum.core.values.path_rules import PathRules

_ONE_DATE: Final = (1980, 1, 1, 0, 0, 0)
SCRATCH: Final = (
    "**/.git/", "**/.hg/", "**/.svn/", "**/.idea/", "**/.vscode/", "**/__pycache__/",
    "**/.gitignore", "**/.gitattributes", "**/.DS_Store", "**/._*", "**/Thumbs.db", "**/desktop.ini",
    "**/*~", "**/*.swp", "**/*.tmp", "**/*.bak", "**/*.orig", "**/*.rej", "**/.#*", "**/#*#",
)  # fmt: skip
"""What editors, version control and file managers leave in a working folder."""
_PROGRAMS: Final = (
    b"#!",
    b"\x7fELF",
    b"\xcf\xfa\xed\xfe",
    b"\xce\xfa\xed\xfe",
    b"\xca\xfe\xba\xbe",
)
"""What a program begins with; a file system without a mark for programs tells it by nothing else."""


class Packed(NamedTuple):
    """A file as it goes into an archive: its name there, with slashes, and where it lies."""

    name: str
    path: str


class Content(NamedTuple):
    """What of a folder goes into an archive, by name, and what stays out of it."""

    files: tuple[Packed, ...]
    left_out: tuple[str, ...]


def pack_folder(folder: str, target: str) -> None:
    """Write all files of a folder to the zip ``target``. Raises ArchiveFault, OSError."""
    found = sorted(_files(folder))
    if not found:
        raise ArchiveFault(f"{folder}: there is no file in this folder")
    write_zip(found, target, _is_marked_as_program)


def content_of(folder: str, leave_out: Sequence[str] = ()) -> Content:
    """Return what of a working folder goes into its archive: all but scratch files and what is left out.

    A pattern without a slash is for names, wherever they lie. Names are composed (Unicode NFC), as most
    systems write them. Raises ArchiveFault, OSError.
    """
    patterns = [*SCRATCH, *(each if "/" in each else f"**/{each}" for each in leave_out)]
    fits = PathRules(folds_case=True).test(patterns)
    left_out: list[str] = []

    def is_out(name: str) -> bool:
        if out := fits(name) or fits(f"x/{name}"):
            left_out.append(name)
        return out

    files: dict[str, Packed] = {}
    for each in _files(folder, is_out):
        name = unicodedata.normalize("NFC", each.name)
        other = files.setdefault(name.casefold(), Packed(name, each.path))
        if other.path != each.path:
            raise ArchiveFault(
                f"{folder}: {other.name} and {name} are one file on systems that pass over capitals",
                hint="Rename one of them.",
            )
    if not files:
        raise ArchiveFault(f"{folder}: there is no file in this folder that an archive is made for")
    return Content(tuple(sorted(files.values())), tuple(sorted(left_out)))


def write_zip(files: Sequence[Packed], target: str, is_program: Callable[[str], bool]) -> None:
    """Write files to the zip ``target``, in their order. Raises OSError."""
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED, strict_timestamps=False) as archive:
        for name, path in files:
            info = zipfile.ZipInfo(name, _ONE_DATE)
            info.create_system = 3
            info.external_attr = (stat.S_IFREG | (0o755 if is_program(path) else 0o644)) << 16
            with open(path, "rb") as source, archive.open(info, "w", force_zip64=True) as member:
                shutil.copyfileobj(source, member, CHUNK_BYTES)


def begins_like_program(path: str) -> bool:
    """Whether a file is a program by its first bytes: the same on every system. Raises OSError."""
    with open(path, "rb") as file:
        return file.read(4).startswith(_PROGRAMS)


def _is_marked_as_program(path: str) -> bool:
    return bool(os.stat(path).st_mode & stat.S_IXUSR)


def _files(folder: str, is_out: Callable[[str], bool] = lambda _: False) -> Iterator[Packed]:
    """Yield all files of a folder; ``is_out`` is asked about folders (with a slash) and files."""
    for above, folders, names in os.walk(folder):
        here = os.path.relpath(above, folder).replace(os.sep, "/")
        lead = "" if here == "." else f"{here}/"
        folders[:] = [name for name in sorted(folders) if not is_out(f"{lead}{name}/")]
        for name in [*folders, *(each for each in names if not is_out(f"{lead}{each}"))]:
            path = os.path.join(above, name)
            mode = os.lstat(path).st_mode
            if not (stat.S_ISREG(mode) or stat.S_ISDIR(mode)):
                what = "a link" if stat.S_ISLNK(mode) else "neither a file nor a folder"
                raise ArchiveFault(
                    f"{path}: is {what}; Rellum refuses the whole folder",
                    hint="Take it out of the folder, or put the file itself in its place.",
                )
            if stat.S_ISREG(mode):
                yield Packed(f"{lead}{name}", path)
