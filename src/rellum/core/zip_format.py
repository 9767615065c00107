"""The structures of a zip, and the one parser of its list of members (PKWARE's "APPNOTE", version 6.3).

A zip that was split into parts (``.z01`` … ``.zip``) counts offsets from the beginning of a part. The end
records are rewritten in memory so that they count from the beginning of all, and the standard library, which
knows no parts, then reads the list as that of one file.
"""

from __future__ import annotations

import io
import struct
import zipfile
from typing import Final, NamedTuple

from rellum.core.joined_file import JoinedFile

LOCAL: Final = struct.Struct("<4s5H3I2H")
"""Before each member: mark, version, flags, method, time, date, CRC, packed, size, name, extra."""

CENTRAL: Final = struct.Struct("<4s6H3I5H2I")
"""A member in the list at the end."""

END: Final = struct.Struct("<4sHHHHLLH")
LOCATOR_64: Final = struct.Struct("<4sLQL")
END_64: Final = struct.Struct("<4sQHHLLQQQQ")
LOCAL_MARK, CENTRAL_MARK, END_MARK = b"PK\3\4", b"PK\1\2", b"PK\5\6"
END_64_MARK, LOCATOR_64_MARK, SPLIT_MARK = b"PK\6\6", b"PK\6\7", b"PK\7\x08"

ENCRYPTED, SIZES_FOLLOW, UTF_8 = 0x1, 0x8, 0x800
"""Flags of a member."""

MOST_32, MOST_16 = 0xFFFFFFFF, 0xFFFF
"""In a field of 32 or 16 bits, they say that the number stands in the zip64 part."""

UNICODE_PATH: Final = 0x7075
"""The extra field with a member's name in Unicode (APPNOTE 4.6.9)."""

_LONGEST_COMMENT = 65_535


class Directory(NamedTuple):
    """The list of members, the comment of the whole, and where the list begins."""

    infos: list[zipfile.ZipInfo]
    comment: bytes
    begins_at: int


def read_directory(file: JoinedFile) -> Directory:
    """Read the list of members.

    Raises BadZipFile, NotImplementedError, ValueError, struct.error for what is no zip, or a damaged one;
    OSError.
    """
    find_end(file)
    stream = _with_own_end(file) if len(file.starts) > 1 else io.BufferedReader(file)
    with zipfile.ZipFile(stream) as archive:
        return Directory(archive.infolist(), archive.comment, archive.start_dir)


def find_end(file: JoinedFile) -> tuple[int, bytes]:
    """Return where in the last bytes the end record stands (-1: nowhere), and those bytes.

    Raises BadZipFile where several records end, with their comments, where the file does: which members there
    are would depend on who reads it.
    """
    count = min(file.size, _LONGEST_COMMENT + END.size + LOCATOR_64.size + END_64.size)
    tail = file.read_at(file.size - count, count)
    ends = []
    at = tail.find(END_MARK)
    while 0 <= at <= len(tail) - END.size:
        comment = END.unpack_from(tail, at)[-1]
        if at + END.size + comment == len(tail):
            ends.append(at)
        at = tail.find(END_MARK, at + 1)
    if len(ends) > 1:
        raise zipfile.BadZipFile("it has several end records, and it is not clear which counts")
    return ends[0] if ends else tail.rfind(END_MARK, 0, len(tail) - END.size + 4), tail


class _Overlaid(io.RawIOBase):
    """A file whose last bytes are replaced."""

    def __init__(self, file: JoinedFile, tail: bytes) -> None:
        super().__init__()
        self._file, self._tail = file, tail
        self._tail_at = file.size - len(tail)
        self._at = 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._at

    def seek(self, offset: int, whence: int = 0) -> int:
        self._at = self._file.seek(offset, whence) if whence != 1 else self._at + offset
        return self._at

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        if self._at >= self._tail_at:
            begin = self._at - self._tail_at
            content = self._tail[begin : begin + len(buffer)]
        else:
            content = self._file.read_at(self._at, min(len(buffer), self._tail_at - self._at))
        buffer[: len(content)] = content
        self._at += len(content)
        return len(content)


def _with_own_end(file: JoinedFile) -> io.BufferedReader:
    """Return the joined parts with end records that count from the beginning of all of them."""
    at, found = find_end(file)
    if at < 0:
        raise zipfile.BadZipFile("not a zip: the last part has no end record")
    tail = bytearray(found)
    tail_at = file.size - len(tail)
    mark, _, list_disk, _, count, size, offset, comment = END.unpack_from(tail, at)
    locator_at = at - LOCATOR_64.size
    if locator_at >= 0 and tail[locator_at : locator_at + 4] == LOCATOR_64_MARK:
        end64_at = locator_at - END_64.size
        if end64_at < 0 or tail[end64_at : end64_at + 4] != END_64_MARK:
            raise zipfile.BadZipFile("its zip64 end record is not where it should be")
        fields = list(END_64.unpack_from(tail, end64_at))
        fields[9] = _start(file, fields[5]) + fields[9]
        fields[4] = fields[5] = 0
        fields[6] = fields[7]
        END_64.pack_into(tail, end64_at, *fields)
        LOCATOR_64.pack_into(tail, locator_at, LOCATOR_64_MARK, 0, tail_at + end64_at, 1)
    if offset != MOST_32:
        offset += _start(file, list_disk)
    if offset >= MOST_32:
        if locator_at < 0 or tail[locator_at : locator_at + 4] != LOCATOR_64_MARK:
            raise zipfile.BadZipFile("its list lies beyond 4 GiB and it is no zip64")
        offset = MOST_32
    END.pack_into(tail, at, mark, 0, 0, count, count, size, offset, comment)
    return io.BufferedReader(_Overlaid(file, bytes(tail)))


def _start(file: JoinedFile, disk: int) -> int:
    if disk >= len(file.starts):
        raise zipfile.BadZipFile(
            f"its list is in part {disk + 1}, and there are {len(file.starts)}"
        )
    return file.starts[disk]
