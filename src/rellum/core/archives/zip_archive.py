"""Zip and zip64, whole or split (PKWARE's APPNOTE).

The list of members is read by the standard library; their bytes are read here, by two threads at
once, because that is where the time goes.
"""

from __future__ import annotations

import stat
import threading
import zipfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TypeVar

from blake3 import blake3

from rellum.core.archives.gate import LONGEST_TARGET, Gate
from rellum.core.archives.inflate import PIECE_BYTES, DeflateFault, crc32, inflate
from rellum.core.archives.links import with_links
from rellum.core.archives.model import (
    AGAIN,
    Archive,
    ArchiveFault,
    ContentMismatch,
    Extraction,
    Form,
    Limits,
    Member,
)
from rellum.core.archives.names import decode
from rellum.core.archives.sinks import FileSink, Tally
from rellum.core.archives.zip_list import read_list
from rellum.core.hashing import Digest
from rellum.core.joined_file import JoinedFile
from rellum.core.progress import Listener, silent
from rellum.core.values.paths import MemberPath
from rellum.core.zip_format import ENCRYPTED, LOCAL, LOCAL_MARK, MOST_32, SIZES_FOLLOW, UTF_8

_DEFLATED, _STORED = zipfile.ZIP_DEFLATED, zipfile.ZIP_STORED

Work = TypeVar("Work")


@dataclass(frozen=True, slots=True)
class _Entry:
    """A member as the archive declares it, its name checked; ``offset`` is that of its header."""

    path: MemberPath
    info: zipfile.ZipInfo
    offset: int


class ZipArchive(Archive):
    """An open zip whose list of members holds nothing hostile."""

    def __init__(
        self,
        parts: Sequence[str],
        name: str,
        limits: Limits,
        form: Form,
        encoding: str = "",
    ) -> None:
        """Read the list of members. Raises ArchiveFault for what is damaged or hostile."""
        super().__init__(parts, name, limits, form)
        listed = read_list(self.parts, name, encoding)
        self.encoding = listed.encoding
        gate = self._gate = Gate(name, self.packed_bytes, limits)
        entries = []
        self._links: list[_Entry] = []
        for text, offset, info in listed.members:
            if _is_link(info):
                path = gate.admit(text, info.file_size, _fault_of_kind(info), is_folder=True)
                self._links.append(_Entry(path, info, offset))
                continue
            path = gate.admit(text, info.file_size, _fault_of_kind(info))
            if not text.endswith(("/", "\\")):
                entries.append(_Entry(path, info, offset))
        if overlap := _overlap([*entries, *self._links]):
            raise gate.refuse(overlap)
        self._entries = tuple(entries)

    def check(self, listen: Listener = silent) -> tuple[Member, ...]:
        """Read every member in full: size, CRC-32 and BLAKE3. Raises ArchiveFault, naming it."""
        total = sum(entry.info.file_size for entry in self._entries)
        tally = Tally("checking", len(self._entries), total, listen)
        results: dict[MemberPath, Member] = {}

        def check_one(entry: _Entry, file: _OpenZip) -> None:
            hasher, crc = blake3(), 0
            for piece in file.pieces(entry):
                hasher.update(piece)
                crc = crc32(piece, crc)
            if crc != entry.info.CRC:
                raise self.fault(f"the member {entry.path} is damaged: its checksum is wrong")
            tally.add(entry.info.file_size)
            results[entry.path] = Member(
                path=entry.path,
                size=entry.info.file_size,
                digest=Digest(hasher.hexdigest()),
                executable=bool(entry.info.external_attr >> 16 & stat.S_IXUSR),
            )

        # In the order of their bytes, so that the file is read once from its beginning to its end.
        self._run(sorted(self._entries, key=lambda entry: entry.offset), check_one)
        members = [results[entry.path] for entry in self._entries]
        if self._links:
            with _OpenZip(self) as file:
                for entry in self._links:
                    self._gate.note_link(entry.path, self._target(entry, file))
        return with_links(members, self._gate)

    def _target(self, entry: _Entry, file: _OpenZip) -> str:
        """Return what a link points to, which a zip has as its content. Raises ArchiveFault."""
        if entry.info.file_size > LONGEST_TARGET:
            raise self._gate.refuse(f"the member {entry.path!r} is a link whose target is too long")
        content = b"".join(file.pieces(entry))
        if crc32(content, 0) != entry.info.CRC:
            raise self.fault(f"the member {entry.path} is damaged: its checksum is wrong")
        return decode(content, self.encoding)

    def extract(self, jobs: Sequence[Extraction], listen: Listener = silent) -> None:
        """Write members to new files. Raises ContentMismatch, ArchiveFault, OSError."""
        by_path = {entry.path: entry for entry in self._entries}
        pairs = []
        for job in jobs:
            entry = by_path.get(job.member)
            if entry is None:
                raise ContentMismatch(f"{self.name} has no member {job.member} any more")
            pairs.append((entry, job))
        total = sum(entry.info.file_size for entry, _ in pairs)
        tally = Tally("unpacking", len(pairs), total, listen)

        def write_one(pair: tuple[_Entry, Extraction], file: _OpenZip) -> None:
            entry, job = pair
            sink = FileSink(job, self.name)
            try:
                for piece in file.pieces(entry):
                    sink.write(piece)
            except BaseException:
                sink.abandon()
                raise
            sink.close()
            tally.add(entry.info.file_size)

        self._run(pairs, write_one)

    def _run(self, items: Sequence[Work], work: Callable[[Work, _OpenZip], None]) -> None:
        """Do the work on all items in two threads, each with the file open for itself.

        Inflating, hashing and writing leave Python's lock, so two threads use two processors.
        """
        queue = iter(items)
        take = threading.Lock()
        failures: list[BaseException] = []

        def run() -> None:
            try:
                with _OpenZip(self) as file:
                    while not failures:
                        with take:
                            item = next(queue, None)
                        if item is None:
                            return
                        work(item, file)
            except BaseException as error:
                failures.append(error)

        helper = threading.Thread(target=run, daemon=True)
        helper.start()
        run()
        try:
            helper.join()
        except BaseException as error:  # the user's interrupt: let the helper end first
            failures.append(error)
            helper.join()
        if failures:
            raise failures[0]


class _OpenZip:
    """The archive's bytes, open for one thread."""

    def __init__(self, archive: ZipArchive) -> None:
        self._archive = archive
        self._file = JoinedFile(archive.parts, archive.ready)

    def __enter__(self) -> _OpenZip:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def pieces(self, entry: _Entry) -> Iterator[bytes]:
        """Yield a member's content in pieces of at most 4 MiB. Raises ArchiveFault."""
        info = entry.info
        offset = self._content_offset(entry)
        if info.compress_type == _STORED:
            yield from self._stored(offset, entry)
            return
        if info.compress_type != _DEFLATED:
            yield from self._by_library(entry)
            return
        try:
            yield from inflate(self._file.read_at, offset, info.compress_size, info.file_size)
        except DeflateFault as error:
            raise self._archive.fault(f"the member {entry.path} is damaged: {error}") from error

    def _content_offset(self, entry: _Entry) -> int:
        """Return where a member's content begins. Raises ArchiveFault.

        What stands before the content must be what the list says: where the two disagree, one reader sees
        another member than the next.
        """
        info = entry.info
        name = info.orig_filename.encode("utf-8" if info.flag_bits & UTF_8 else "cp437")
        header = self._file.read_at(entry.offset, LOCAL.size + len(name))
        if len(header) < LOCAL.size or header[:4] != LOCAL_MARK:
            raise self._archive.fault(f"the member {entry.path} is truncated")
        _, _, flags, method, *_, packed, size, name_length, extra_length = LOCAL.unpack_from(header)
        is_same = method == info.compress_type and not (flags ^ info.flag_bits) & ENCRYPTED
        if not flags & SIZES_FOLLOW and MOST_32 not in (packed, size):
            is_same = is_same and (packed, size) == (info.compress_size, info.file_size)
        if not is_same or name_length != len(name) or header[LOCAL.size :] != name:
            raise self._archive.fault(
                f"the member {entry.path} differs between the archive's list and its data"
            )
        return int(entry.offset + LOCAL.size + name_length + extra_length)

    def _stored(self, offset: int, entry: _Entry) -> Iterator[bytes]:
        left = entry.info.file_size
        while left:
            piece = self._file.read_at(offset, min(left, PIECE_BYTES))
            if not piece:
                raise self._archive.fault(f"the member {entry.path} is truncated")
            yield piece
            left -= len(piece)
            offset += len(piece)

    def _by_library(self, entry: _Entry) -> Iterator[bytes]:
        """Read members packed by bzip2 or LZMA, which are rare, by the standard library."""
        info = entry.info
        if len(self._archive.parts) > 1:
            raise self._archive.fault(
                f"the member {entry.path} uses a compression method that is not supported in split zips"
            )
        try:
            with zipfile.ZipFile(self._archive.parts[0]) as zipped, zipped.open(info) as member:
                left = info.file_size
                while piece := member.read(PIECE_BYTES):
                    left -= len(piece)
                    if left < 0:
                        raise zipfile.BadZipFile("it contains more than it declares")
                    yield piece
        except (zipfile.BadZipFile, NotImplementedError, EOFError, OSError, RuntimeError) as error:
            raise ArchiveFault(
                f"{self._archive.name}: the member {entry.path} cannot be read: {error}",
                hint=AGAIN,
            ) from error


def _is_link(info: zipfile.ZipInfo) -> bool:
    return stat.S_ISLNK(info.external_attr >> 16)


def _fault_of_kind(info: zipfile.ZipInfo) -> str:
    kind = stat.S_IFMT(info.external_attr >> 16)
    if kind not in (0, stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK):
        return "is neither a file nor a folder"
    if info.flag_bits & ENCRYPTED:
        return "is encrypted"
    return ""


def _overlap(entries: list[_Entry]) -> str:
    """Find members that share packed bytes: the mark of a bomb."""
    end, before = 0, MemberPath("")
    for entry in sorted(entries, key=lambda each: each.offset):
        if entry.offset < end:
            return f"the members {before!r} and {entry.path!r} share the same bytes"
        end = entry.offset + LOCAL.size + entry.info.compress_size
        before = entry.path
    return ""
