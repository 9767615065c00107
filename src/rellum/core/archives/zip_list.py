"""The list of members of an archive that is a zip: where each begins, and what its name is."""

from __future__ import annotations

import struct
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass

from rellum.core.archives.inflate import crc32
from rellum.core.archives.model import AGAIN, ArchiveFault
from rellum.core.archives.names import decode, guess_encoding
from rellum.core.joined_file import JoinedFile
from rellum.core.zip_format import (
    END,
    LOCAL_MARK,
    SPLIT_MARK,
    UNICODE_PATH,
    UTF_8,
    find_end,
    read_directory,
)


@dataclass(frozen=True, slots=True)
class ZipList:
    """The members in order: name, offset of the header in all parts, what is declared.

    ``encoding`` is that of names which are neither ASCII nor marked as Unicode; empty: none are.
    """

    members: tuple[tuple[str, int, zipfile.ZipInfo], ...]
    encoding: str


def read_list(parts: Sequence[str], name: str, encoding: str = "") -> ZipList:
    """Read the central directory. ``encoding`` decodes names as before, else it is guessed.

    Raises ArchiveFault.
    """
    try:
        with JoinedFile(parts) as joined:
            infos, starts = read_directory(joined).infos, joined.starts
    except (zipfile.BadZipFile, NotImplementedError, ValueError, OSError, struct.error) as error:
        raise ArchiveFault(f"{name}: {_no_list(parts[0], error)}", hint=AGAIN) from error
    unmarked = [raw for info in infos if (raw := _raw_name(info)) and not raw.isascii()]
    if unmarked and not encoding:
        encoding = guess_encoding(unmarked)
    return ZipList(
        members=tuple((_name(info, encoding), _offset(info, starts, name), info) for info in infos),
        encoding=encoding if unmarked else "",
    )


def disk_number(path: str) -> int:
    """Return which part of a split zip a file says it is, counted from 0; 0 also where it is whole.

    Only the last part says so. Raises OSError.
    """
    with JoinedFile([path]) as file:
        try:
            at, tail = find_end(file)
        except zipfile.BadZipFile:  # told when its list is read
            return 0
        return int(END.unpack_from(tail, at)[1]) if at >= 0 else 0


def _offset(info: zipfile.ZipInfo, starts: Sequence[int], name: str) -> int:
    if len(starts) == 1:
        return info.header_offset
    if info.volume >= len(starts):
        raise ArchiveFault(
            f"{name}: a member begins in part {info.volume + 1}, and there are {len(starts)}",
            hint=AGAIN,
        )
    return starts[info.volume] + info.header_offset


def _raw_name(info: zipfile.ZipInfo) -> bytes:
    """Return the bytes of a name that is not marked as Unicode; empty for one that is."""
    if info.flag_bits & UTF_8:
        return b""
    return info.orig_filename.encode("cp437")


def _name(info: zipfile.ZipInfo, encoding: str) -> str:
    """Return a member's name: the Unicode one where the archive has it, else decoded."""
    raw = _raw_name(info)
    if not raw or raw.isascii():
        return info.orig_filename
    return _unicode_path(info.extra, raw) or decode(raw, encoding)


def _unicode_path(extra: bytes, raw: bytes) -> str:
    """Return the name in a Unicode Path field (APPNOTE 4.6.9) that is for this raw name."""
    while len(extra) >= 4:
        kind, size = struct.unpack_from("<HH", extra)
        field, extra = extra[4 : 4 + size], extra[4 + size :]
        is_path = kind == UNICODE_PATH and len(field) > 5 and field[0] == 1
        if is_path and struct.unpack_from("<L", field, 1)[0] == crc32(raw):
            return field[5:].decode("utf-8", "replace")
    return ""


def _no_list(path: str, error: Exception) -> str:
    with open(path, "rb") as file:
        begins_well = file.read(4) in (LOCAL_MARK, SPLIT_MARK)
    if begins_well and isinstance(error, zipfile.BadZipFile) and "not a zip" in str(error):
        return "starts like a zip but has no end: the download is incomplete"
    return f"its list of members cannot be read ({error})"
