"""Containers: zips under another name, in which a game keeps many files.

A container is rebuilt from the old one: members that stay are copied as they lie there, packed and
all, in their old order; new contents are stored, not packed, and have no time, so that the result is
the same on every machine. ``core.zip_format`` has the structures.
"""

from __future__ import annotations

import json
import os
import shutil
import struct
import zipfile
import zlib
from collections.abc import Callable, Mapping, Sequence
from contextlib import closing
from dataclasses import asdict, dataclass
from typing import BinaryIO, Literal

from rellum.core.hashing import Digest
from rellum.core.hashing_writer import HashingWriter
from rellum.core.joined_file import JoinedFile
from rellum.core.patching.model import PatchFault
from rellum.core.zip_format import (
    CENTRAL,
    CENTRAL_MARK,
    END,
    END_64,
    END_64_MARK,
    END_MARK,
    LOCAL,
    LOCAL_MARK,
    LOCATOR_64,
    LOCATOR_64_MARK,
    MOST_16,
    MOST_32,
    UTF_8,
    Directory,
    read_directory,
)

_CHUNK_BYTES = 1 << 20
_VERSION_64 = 45
_MOST_RATIO = 1100
"""DEFLATE packs at most 1032 to 1: a member that says more is lying, or a bomb …"""
_RATIO_FREE_BYTES = 64 << 20
"""… if it is larger than this."""
_NO_DATE = (1980, 1, 1, 0, 0, 0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Rebuilt:
    """What became of a container: members by what was done, and the CRC-32 of all by name.

    ``digest`` is the hash of the container, where it was just made.
    """

    added: tuple[str, ...]
    replaced: tuple[str, ...]
    removed: tuple[str, ...]
    dropped: tuple[str, ...]
    members: Mapping[str, int]
    digest: Digest | None = None

    def as_notes(self) -> str:
        """Return it as a text that can be kept."""
        return json.dumps({**asdict(self), "digest": None})

    @classmethod
    def from_notes(cls, notes: str) -> Rebuilt | None:
        """Return what a text tells; None where it is not such a text."""
        try:
            value = json.loads(notes)
            return cls(
                added=tuple(value["added"]),
                replaced=tuple(value["replaced"]),
                removed=tuple(value["removed"]),
                dropped=tuple(value["dropped"]),
                members=value["members"],
            )
        except (ValueError, KeyError, TypeError):
            return None


@dataclass(frozen=True, slots=True, kw_only=True)
class MemberChange:
    """A member of a container that is not as it was left."""

    kind: Literal["changed", "missing", "foreign"]
    member: str


def compare_members(before: Mapping[str, int], now: Mapping[str, int]) -> list[MemberChange]:
    """Return how a container's members differ, by name."""
    changes = [MemberChange(kind="missing", member=each) for each in before.keys() - now.keys()]
    changes += [MemberChange(kind="foreign", member=each) for each in now.keys() - before.keys()]
    changes += [
        MemberChange(kind="changed", member=each)
        for each in before.keys() & now.keys()
        if before[each] != now[each]
    ]
    return sorted(changes, key=lambda change: change.member)


def members_of(container: str, name: str) -> dict[str, int]:
    """Return the CRC-32 of each member by name. Raises PatchFault for what is no container."""
    return {info.filename: info.CRC for info in _read_list(container, name).infos}


def extract_member(container: str, member: str, target: str, name: str) -> None:
    """Write a member to a new file. Raises PatchFault, OSError."""
    try:
        with zipfile.ZipFile(container) as archive:
            info = archive.getinfo(member)
            if info.file_size > _RATIO_FREE_BYTES + _MOST_RATIO * info.compress_size:
                raise PatchFault(f"{name}: its member {member} says that it unpacks to too much")
            with archive.open(info) as source, open(target, "xb") as out:
                shutil.copyfileobj(source, out, _CHUNK_BYTES)
    except (zipfile.BadZipFile, zlib.error, KeyError, NotImplementedError, EOFError) as error:
        raise PatchFault(f"{name}: its member {member} cannot be read ({error})") from error


def rebuild(
    container: str,
    changes: Mapping[str, str | None],
    is_dropped: Callable[[str], bool],
    target: str,
    name: str,
) -> Rebuilt:
    """Write a container with changes to the new file ``target``.

    ``changes`` are new contents (files on disk) by member, None for one that goes. Members that
    ``is_dropped`` names go if anything else changes. Raises PatchFault, OSError.
    """
    infos, comment, list_start = _read_list(container, name)
    known = {info.filename for info in infos}
    gone = {each for each, file in changes.items() if file is None} & known
    dropped = {each for each in known - changes.keys() if is_dropped(each)}
    with (
        open(container, "rb", 0) as source,
        open(target, "xb") as out,
        closing(HashingWriter(out)) as hashing,
    ):
        writer = _Writer(source, hashing)
        ends = _ends(infos, list_start)
        for info in sorted(infos, key=lambda each: each.header_offset):
            if info.filename in gone or info.filename in dropped:
                continue
            file = changes.get(info.filename)
            if file is None:
                writer.keep(info, ends[info.header_offset])
            else:
                writer.add(info.filename, file, info.external_attr)
        for added in sorted(changes.keys() - known):
            if (file := changes[added]) is not None:
                writer.add(added, file, 0o644 << 16)
        writer.finish(comment)
        digest = hashing.digest()
    return Rebuilt(
        added=tuple(sorted(each for each in changes.keys() - known if changes[each])),
        replaced=tuple(sorted(each for each in changes.keys() & known if changes[each])),
        removed=tuple(sorted(gone)),
        dropped=tuple(sorted(dropped)),
        members=writer.members,
        digest=digest,
    )


def _read_list(container: str, name: str) -> Directory:
    """Return a container's list of members. Raises PatchFault."""
    try:
        with JoinedFile([container]) as file:
            directory = read_directory(file)
    except (zipfile.BadZipFile, struct.error, NotImplementedError, ValueError) as error:
        raise PatchFault(
            f"{name}: is no container that can be changed: no zip, or a damaged one ({error})",
            hint="Only zips under another name are containers. Look at 'to' in the card.",
        ) from error
    if len({info.filename for info in directory.infos}) < len(directory.infos):
        raise PatchFault(f"{name}: has two members of one name, and cannot be changed safely")
    return directory


def _ends(infos: Sequence[zipfile.ZipInfo], list_start: int) -> dict[int, int]:
    """Return where each member's bytes end, by where they begin: where the next one begins."""
    begins = sorted(info.header_offset for info in infos)
    return dict(zip(begins, [*begins[1:], list_start], strict=False))


class _Writer:
    """Writes a zip member by member; bytes that lie together in the source are copied in one go."""

    def __init__(self, source: BinaryIO, out: HashingWriter) -> None:
        self.source = source
        self.out = out
        self.members: dict[str, int] = {}
        self._size = 0
        self._list: list[bytes] = []
        self._waiting = (0, 0)

    def keep(self, info: zipfile.ZipInfo, end: int) -> None:
        """Carry a member over as it is."""
        begin, waiting_end = self._waiting
        if waiting_end != info.header_offset:
            self._copy_waiting()
            begin = info.header_offset
        self._waiting = (begin, end)
        self._note(info, self._size)
        self._size += end - info.header_offset

    def add(self, name: str, file: str, attributes: int) -> None:
        """Add a member with the content of a file, stored."""
        self._copy_waiting()
        info = zipfile.ZipInfo(name, _NO_DATE)
        info.create_system = 3
        info.external_attr = attributes
        info.flag_bits = 0 if name.isascii() else UTF_8
        info.file_size = info.compress_size = os.path.getsize(file)
        info.CRC = _crc(file)
        encoded = name.encode("utf-8")
        sizes = _extra_64([info.file_size, info.compress_size], both=True)
        head = LOCAL.pack(
            LOCAL_MARK, _VERSION_64 if sizes else 20, info.flag_bits, 0, *_dos_time(info), info.CRC,
            *(min(info.file_size, MOST_32),) * 2 if not sizes else (MOST_32,) * 2,
            len(encoded), len(sizes),
        )  # fmt: skip
        self._note(info, self._size)
        self.out.write(head + encoded + sizes)
        with open(file, "rb") as content:
            while piece := content.read(_CHUNK_BYTES):
                self.out.write(piece)
        self._size += len(head) + len(encoded) + len(sizes) + info.file_size

    def _note(self, info: zipfile.ZipInfo, at: int) -> None:
        """Write down a member for the list at the end."""
        self.members[info.filename] = info.CRC
        # The standard library decodes names without the flag as code page 437, which goes both ways.
        encoded = info.filename.encode("utf-8" if info.flag_bits & UTF_8 else "cp437")
        numbers = [info.file_size, info.compress_size, at]
        large = _extra_64(numbers)
        extra = _without_64(info.extra) + large
        self._list.append(
            CENTRAL.pack(
                CENTRAL_MARK,
                info.create_version | info.create_system << 8,
                max(info.extract_version, _VERSION_64 if large else 0),
                info.flag_bits,
                info.compress_type,
                *_dos_time(info),
                info.CRC,
                min(info.compress_size, MOST_32),
                min(info.file_size, MOST_32),
                len(encoded),
                len(extra),
                len(info.comment),
                0,
                info.internal_attr,
                info.external_attr,
                min(at, MOST_32),
            )
            + encoded
            + extra
            + info.comment
        )

    def _copy_waiting(self) -> None:
        begin, end = self._waiting
        self._waiting = (0, 0)
        self.source.seek(begin)
        while begin < end:
            piece = self.source.read(min(end - begin, _CHUNK_BYTES))
            if not piece:
                raise PatchFault("a container ended before its list says so", hint="It is damaged.")
            self.out.write(piece)
            begin += len(piece)

    def finish(self, comment: bytes) -> None:
        """Write the list of members, and the end."""
        self._copy_waiting()
        count, start, size = len(self._list), self._size, sum(map(len, self._list))
        self.out.write(b"".join(self._list))
        if count >= MOST_16 or start >= MOST_32 or size >= MOST_32:
            self.out.write(
                END_64.pack(
                    END_64_MARK, 44, _VERSION_64, _VERSION_64, 0, 0, count, count, size, start
                )
            )
            self.out.write(LOCATOR_64.pack(LOCATOR_64_MARK, 0, start + size, 1))
        shown = min(count, MOST_16)
        self.out.write(
            END.pack(
                END_MARK,
                0,
                0,
                shown,
                shown,
                min(size, MOST_32),
                min(start, MOST_32),
                len(comment),
            )
            + comment
        )


def _crc(file: str) -> int:
    crc = 0
    with open(file, "rb") as content:
        while piece := content.read(_CHUNK_BYTES):
            crc = zlib.crc32(piece, crc)
    return crc


def _dos_time(info: zipfile.ZipInfo) -> tuple[int, int]:
    year, month, day, hour, minute, second = info.date_time
    return hour << 11 | minute << 5 | second // 2, (year - 1980) << 9 | month << 5 | day


def _extra_64(numbers: Sequence[int], *, both: bool = False) -> bytes:
    """Return the extra field for numbers of more than 32 bits; ``both``: all where one is."""
    large = [each for each in numbers if each >= MOST_32]
    if not large:
        return b""
    large = list(numbers) if both else large
    return struct.pack(f"<2H{len(large)}Q", 1, 8 * len(large), *large)


def _without_64(extra: bytes) -> bytes:
    """Return extra fields without that for large numbers."""
    kept, at = b"", 0
    while at + 4 <= len(extra):
        kind, size = struct.unpack_from("<2H", extra, at)
        if kind != 1:
            kept += extra[at : at + 4 + size]
        at += 4 + size
    return kept
