"""Archives: hostile until checked. In this version: zip and zip64 (PKWARE's APPNOTE).

``open_archive`` reads only the list of members and refuses the archive whole if one member could
leave its place, hide, collide with another or lie about its size. ``Archive.check`` then reads
every byte once: size, CRC-32 and BLAKE3 of each member. ``Archive.extract`` writes members out and
proves each against the BLAKE3 that the check gave.
"""

from __future__ import annotations

import os
import stat
import struct
import threading
import unicodedata
import zipfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Final

from blake3 import blake3

from rellum.core.errors import UserError
from rellum.core.hashing import Digest
from rellum.core.paths import MemberPath, UnsafePath, parse_member_path
from rellum.core.progress import Listener, Progress, silent
from rellum.core.shelf.inflate import PIECE_BYTES, DeflateFault, crc32, inflate

MAX_MEMBERS: Final = 1_000_000
MAX_TOTAL_BYTES: Final = 1 << 40
MAX_RATIO: Final = 1100
"""DEFLATE packs at most 1032 to 1; an archive that declares more is lying, or a bomb."""
RATIO_FREE_BYTES: Final = 64 << 20
"""Up to this size together, members may pack as well as they like."""

_LOCAL_HEADER = struct.Struct("<4s22xHH")
_DEFLATED, _STORED = zipfile.ZIP_DEFLATED, zipfile.ZIP_STORED


class ArchiveFault(UserError):
    """An archive is damaged, hostile, or no archive."""

    code = "archive-fault"


class ContentMismatch(UserError):
    """A member's content is not what the shelf recorded when it took the archive."""

    code = "content-mismatch"


@dataclass(frozen=True, slots=True, kw_only=True)
class Member:
    """One file inside an archive that was checked. ``size`` is in bytes."""

    path: MemberPath
    size: int
    digest: Digest
    executable: bool


@dataclass(frozen=True, slots=True)
class _Entry:
    """A member as the archive declares it, its name checked."""

    path: MemberPath
    info: zipfile.ZipInfo


@dataclass(frozen=True, slots=True, kw_only=True)
class Extraction:
    """Write ``member`` to the new file ``target``; its content must have ``digest``."""

    member: MemberPath
    digest: Digest
    target: str
    mode: int


class Archive:
    """An open archive whose list of members holds nothing hostile."""

    def __init__(self, path: str, name: str, entries: tuple[_Entry, ...]) -> None:
        self.path = path
        self.name = name
        self._entries = entries

    @property
    def total_bytes(self) -> int:
        """How many bytes its members declare together."""
        return sum(entry.info.file_size for entry in self._entries)

    def check(self, listen: Listener = silent) -> tuple[Member, ...]:
        """Read every member in full. Raises ArchiveFault, naming the member."""
        tally = _Tally("checking", len(self._entries), self.total_bytes, listen)

        def work(entry: _Entry, file: _OpenZip) -> Member:
            hasher, crc = blake3(), 0
            for piece in file.pieces(entry):
                hasher.update(piece)
                crc = crc32(piece, crc)
            if crc != entry.info.CRC:
                raise self._fault(f"the member {entry.path} is damaged: its checksum is wrong")
            tally.add(entry.info.file_size)
            return Member(
                path=entry.path,
                size=entry.info.file_size,
                digest=Digest(hasher.hexdigest()),
                executable=bool(entry.info.external_attr >> 16 & stat.S_IXUSR),
            )

        results: dict[MemberPath, Member] = {}

        def collect(entry: _Entry, file: _OpenZip) -> None:
            results[entry.path] = work(entry, file)

        self._run(self._entries, collect)
        return tuple(results[entry.path] for entry in self._entries)

    def extract(self, jobs: Sequence[Extraction], listen: Listener = silent) -> None:
        """Write members to new files. Raises ContentMismatch, ArchiveFault, OSError."""
        by_path = {entry.path: entry for entry in self._entries}
        job_of = {job.target: job for job in jobs}
        wanted = [(by_path.get(job.member), job) for job in jobs]
        missing = next((job for entry, job in wanted if entry is None), None)
        if missing is not None:
            raise ContentMismatch(f"{self.name} has no member {missing.member} any more")
        total = sum(entry.info.file_size for entry, _ in wanted if entry)
        tally = _Tally("unpacking", len(job_of), total, listen)

        def work(pair: tuple[_Entry, Extraction], file: _OpenZip) -> None:
            entry, job = pair
            _write_new(job, file.pieces(entry), self.name)
            tally.add(entry.info.file_size)

        self._run([(entry, job) for entry, job in wanted if entry], work)

    def _run(
        self,
        items: Sequence[object],
        work: Callable[[object, _OpenZip], None] | Callable[..., None],
    ) -> None:
        """Do the work on all items in two threads, each with the file open for itself.

        Inflating, hashing and writing leave Python's lock, so two threads use two processors.
        """
        queue = iter(items)
        take = threading.Lock()
        failures: list[BaseException] = []

        def run() -> None:
            try:
                with _OpenZip(self.path, self.name) as file:
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

    def _fault(self, message: str) -> ArchiveFault:
        return ArchiveFault(f"{self.name}: {message}", hint=_AGAIN)


class _OpenZip:
    """One open file handle on the archive, for one thread."""

    def __init__(self, path: str, name: str) -> None:
        self._path = path
        self._name = name
        self._file = open(path, "rb", buffering=0)  # noqa: SIM115 - closed by __exit__

    def __enter__(self) -> _OpenZip:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def _read_at(self, offset: int, count: int) -> bytes:
        self._file.seek(offset)
        content = self._file.read(count) or b""
        while len(content) < count:
            more = self._file.read(count - len(content))
            if not more:
                break
            content += more
        return content

    def pieces(self, entry: _Entry) -> Iterator[bytes]:
        """Yield a member's content in pieces of at most 4 MiB. Raises ArchiveFault."""
        info = entry.info
        if info.compress_type not in (_STORED, _DEFLATED):
            yield from self._pieces_by_library(entry)
            return
        header = self._read_at(info.header_offset, _LOCAL_HEADER.size)
        if len(header) < _LOCAL_HEADER.size or header[:4] != b"PK\x03\x04":
            raise ArchiveFault(f"{self._name}: the member {entry.path} is cut short", hint=_AGAIN)
        _, name_length, extra_length = _LOCAL_HEADER.unpack(header)
        offset = info.header_offset + _LOCAL_HEADER.size + name_length + extra_length
        if info.compress_type == _STORED:
            yield from self._stored(offset, entry)
            return
        try:
            yield from inflate(self._read_at, offset, info.compress_size, info.file_size)
        except DeflateFault as error:
            raise ArchiveFault(
                f"{self._name}: the member {entry.path} is damaged: {error}", hint=_AGAIN
            ) from error

    def _stored(self, offset: int, entry: _Entry) -> Iterator[bytes]:
        left = entry.info.file_size
        while left:
            piece = self._read_at(offset, min(left, PIECE_BYTES))
            if not piece:
                raise ArchiveFault(
                    f"{self._name}: the member {entry.path} is cut short", hint=_AGAIN
                )
            yield piece
            left -= len(piece)
            offset += len(piece)

    def _pieces_by_library(self, entry: _Entry) -> Iterator[bytes]:
        """Read members packed by bzip2 or LZMA, which are rare, by the standard library."""
        try:
            with zipfile.ZipFile(self._path) as archive, archive.open(entry.info) as member:
                left = entry.info.file_size
                while piece := member.read(PIECE_BYTES):
                    left -= len(piece)
                    if left < 0:
                        raise zipfile.BadZipFile("it holds more than it declares")
                    yield piece
        except (zipfile.BadZipFile, NotImplementedError, EOFError, OSError, RuntimeError) as error:
            raise ArchiveFault(
                f"{self._name}: the member {entry.path} cannot be read: {error}", hint=_AGAIN
            ) from error


_AGAIN = "Get the archive again; if it fails again, tell whoever offers it."


class _Tally:
    """Counts finished members of two threads and reports now and then."""

    def __init__(self, stage: str, files: int, total_bytes: int, listen: Listener) -> None:
        self.stage, self.total_files, self.total_bytes = stage, files, total_bytes
        self.files = self.bytes = 0
        self.listen = listen
        self.lock = threading.Lock()

    def add(self, count: int) -> None:
        with self.lock:
            self.files += 1
            self.bytes += count
            self.listen(
                Progress(
                    stage=self.stage,
                    files=self.files,
                    total_files=self.total_files,
                    bytes=self.bytes,
                    total_bytes=self.total_bytes,
                )
            )


def _write_new(job: Extraction, pieces: Iterator[bytes], archive: str) -> None:
    hasher = blake3()
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0)
    fd = os.open(job.target, flags, job.mode)
    try:
        for piece in pieces:
            hasher.update(piece)
            view = memoryview(piece)
            while view:
                view = view[os.write(fd, view) :]
    finally:
        os.close(fd)
    if hasher.hexdigest() != job.digest:
        raise ContentMismatch(
            f"{archive}: the member {job.member} is not what was checked when it was taken",
            hint="The archive on the shelf changed. Take it again from a good copy.",
        )


def open_archive(path: str, name: str = "") -> Archive:
    """Read an archive's list of members. ``name`` stands for the path in messages.

    Raises ArchiveFault for whatever is no archive, damaged or hostile.
    """
    name = name or path
    try:
        size = os.path.getsize(path)
        with open(path, "rb") as file:
            head = file.read(1024)
    except OSError as error:
        raise ArchiveFault(f"{name}: cannot be read: {error.strerror}") from error
    if size == 0:
        raise ArchiveFault(f"{name}: the file is empty", hint=_AGAIN)
    try:
        with zipfile.ZipFile(path) as archive:
            infos = archive.infolist()
    except (zipfile.BadZipFile, NotImplementedError, ValueError, OSError) as error:
        raise ArchiveFault(f"{name}: {_not_a_zip(head, error)}", hint=_AGAIN) from error
    return Archive(path, name, _checked_entries(name, infos, size))


def _not_a_zip(head: bytes, error: Exception) -> str:
    if head.startswith(b"PK\x03\x04"):
        return "begins as a zip does but its end is missing: the download stopped half way"
    start = head.lstrip(b"\xef\xbb\xbf \t\r\n").lower()
    if start.startswith((b"<!doctype html", b"<html")):
        return "is a web page, not an archive: the site probably wanted a sign-in"
    return f"is not a zip archive ({error})"


def _checked_entries(
    name: str, infos: list[zipfile.ZipInfo], archive_size: int
) -> tuple[_Entry, ...]:
    def refuse(message: str) -> ArchiveFault:
        return ArchiveFault(
            f"{name}: {message}; the archive is refused whole",
            hint="Nothing of it was unpacked. Do not use it unless you know why it is so.",
        )

    if len(infos) > MAX_MEMBERS:
        raise refuse(f"it has {len(infos):,} members, more than {MAX_MEMBERS:,}")
    total = sum(info.file_size for info in infos)
    if total > MAX_TOTAL_BYTES or total > max(MAX_RATIO * archive_size, RATIO_FREE_BYTES):
        raise refuse(f"it would unpack to {total:,} bytes from {archive_size:,}")
    entries = []
    for info in infos:
        fault = _fault_of_kind(info)
        if fault:
            raise refuse(f"the member {info.filename!r} {fault}")
        try:
            path = parse_member_path(info.filename)
        except UnsafePath as error:
            raise refuse(str(error)) from error
        if not info.is_dir() and not info.filename.endswith("\\"):
            entries.append(_Entry(path, info))
    if collision := _collision([entry.path for entry in entries]):
        raise refuse(collision)
    if overlap := _overlap(entries):
        raise refuse(overlap)
    return tuple(entries)


def _fault_of_kind(info: zipfile.ZipInfo) -> str:
    kind = stat.S_IFMT(info.external_attr >> 16)
    if kind == stat.S_IFLNK:
        return "is a link"
    if kind not in (0, stat.S_IFREG, stat.S_IFDIR):
        return "is neither a file nor a folder"
    if info.flag_bits & 0x1:
        return "is encrypted"
    return ""


def _collision(paths: list[MemberPath]) -> str:
    """Find two members that one file system or another cannot hold side by side."""
    seen: dict[str, MemberPath] = {}
    for path in paths:
        folded = unicodedata.normalize("NFC", path).casefold()
        if folded in seen:
            return f"the members {seen[folded]!r} and {path!r} would be one file on some systems"
        seen[folded] = path
    folders = {folded[:cut] for folded in seen for cut in _cuts(folded)}
    if both := next((seen[folded] for folded in seen if folded in folders), None):
        return f"{both!r} is a file and a folder at once"
    return ""


def _cuts(path: str) -> Iterator[int]:
    cut = path.find("/")
    while cut >= 0:
        yield cut
        cut = path.find("/", cut + 1)


def _overlap(entries: list[_Entry]) -> str:
    """Find members that share packed bytes: the mark of a bomb."""
    end, before = 0, MemberPath("")
    for entry in sorted(entries, key=lambda each: each.info.header_offset):
        if entry.info.header_offset < end:
            return f"the members {before!r} and {entry.path!r} share the same bytes"
        end = entry.info.header_offset + _LOCAL_HEADER.size + entry.info.compress_size
        before = entry.path
    return ""
