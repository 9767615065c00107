"""The list of members of a zip: where each begins, and what its name is.

A zip that was split into parts (``.z01`` … ``.zip``) counts offsets from the beginning of a part.
The end records are rewritten in memory so that they count from the beginning of all, and the
standard library, which knows no parts, then reads the list as that of one file.
"""

from __future__ import annotations

import io
import struct
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass

from rellum.core.archives.inflate import crc32
from rellum.core.archives.joined import JoinedFile
from rellum.core.archives.model import AGAIN, ArchiveFault
from rellum.core.archives.names import decode, guess_encoding

_END = struct.Struct("<4sHHHHLLH")
_LOCATOR = struct.Struct("<4sLQL")
_END64 = struct.Struct("<4sQHHLLQQQQ")
_IN_ZIP64 = 0xFFFFFFFF
_UTF8_FLAG = 0x800
_UNICODE_PATH = 0x7075
_LONGEST_COMMENT = 65_535


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
            _find_end(joined)
            stream = _with_own_end(joined) if len(parts) > 1 else io.BufferedReader(joined)
            with zipfile.ZipFile(stream) as archive:
                infos = archive.infolist()
            starts = joined.starts
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
            at, tail = _find_end(file)
        except zipfile.BadZipFile:  # told when its list is read
            return 0
        return int(_END.unpack_from(tail, at)[1]) if at >= 0 else 0


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
    if info.flag_bits & _UTF8_FLAG:
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
        is_path = kind == _UNICODE_PATH and len(field) > 5 and field[0] == 1
        if is_path and struct.unpack_from("<L", field, 1)[0] == crc32(raw):
            return field[5:].decode("utf-8", "replace")
    return ""


def _no_list(path: str, error: Exception) -> str:
    with open(path, "rb") as file:
        begins_well = file.read(4) in (b"PK\x03\x04", b"PK\x07\x08")
    if begins_well and isinstance(error, zipfile.BadZipFile) and "not a zip" in str(error):
        return "starts like a zip but has no end: the download is incomplete"
    return f"its list of members cannot be read ({error})"


def _find_end(file: JoinedFile) -> tuple[int, bytes]:
    """Return where in the last bytes the end record stands (-1: nowhere), and those bytes.

    Raises BadZipFile where several records end, with their comments, where the file does: which members there
    are would depend on who reads it.
    """
    count = min(file.size, _LONGEST_COMMENT + _END.size + _LOCATOR.size + _END64.size)
    tail = file.read_at(file.size - count, count)
    ends = []
    at = tail.find(b"PK\x05\x06")
    while 0 <= at <= len(tail) - _END.size:
        comment = _END.unpack_from(tail, at)[-1]
        if at + _END.size + comment == len(tail):
            ends.append(at)
        at = tail.find(b"PK\x05\x06", at + 1)
    if len(ends) > 1:
        raise zipfile.BadZipFile("it has several end records, and it is not clear which counts")
    return ends[0] if ends else tail.rfind(b"PK\x05\x06", 0, len(tail) - _END.size + 4), tail


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
    at, found = _find_end(file)
    if at < 0:
        raise zipfile.BadZipFile("not a zip: the last part has no end record")
    tail = bytearray(found)
    tail_at = file.size - len(tail)
    mark, _, list_disk, _, count, size, offset, comment = _END.unpack_from(tail, at)
    locator_at = at - _LOCATOR.size
    if locator_at >= 0 and tail[locator_at : locator_at + 4] == b"PK\x06\x07":
        end64_at = locator_at - _END64.size
        if end64_at < 0 or tail[end64_at : end64_at + 4] != b"PK\x06\x06":
            raise zipfile.BadZipFile("its zip64 end record is not where it should be")
        fields = list(_END64.unpack_from(tail, end64_at))
        fields[9] = _start(file, fields[5]) + fields[9]
        fields[4] = fields[5] = 0
        fields[6] = fields[7]
        _END64.pack_into(tail, end64_at, *fields)
        _LOCATOR.pack_into(tail, locator_at, b"PK\x06\x07", 0, tail_at + end64_at, 1)
    if offset != _IN_ZIP64:
        offset += _start(file, list_disk)
    if offset >= _IN_ZIP64:
        if locator_at < 0 or tail[locator_at : locator_at + 4] != b"PK\x06\x07":
            raise zipfile.BadZipFile("its list lies beyond 4 GiB and it is no zip64")
        offset = _IN_ZIP64
    _END.pack_into(tail, at, mark, 0, 0, count, count, size, offset, comment)
    return io.BufferedReader(_Overlaid(file, bytes(tail)))


def _start(file: JoinedFile, disk: int) -> int:
    if disk >= len(file.starts):
        raise zipfile.BadZipFile(
            f"its list is in part {disk + 1}, and there are {len(file.starts)}"
        )
    return file.starts[disk]
