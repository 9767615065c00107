"""7z, one file or several volumes (``.7z.001`` …), by the package ``py7zr``."""

from __future__ import annotations

import io
import stat
import struct
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from rellum.core.archives.gate import LONGEST_TARGET, Gate
from rellum.core.archives.model import ArchiveFault, Form, Limits
from rellum.core.archives.stream_archive import Sink, SinkFor, StreamArchive
from rellum.core.errors import RellumError
from rellum.core.joined_file import JoinedFile, Tail
from rellum.core.values.paths import MemberPath

if TYPE_CHECKING:
    from py7zr import SevenZipFile

_HEADER: Final = struct.Struct("<6s2sLQQL")
_MARK: Final = b"7z\xbc\xaf\x27\x1c"
_PIECE: Final = 1 << 20
_MOST_PROGRAM: Final = 16 << 20
"""A program that unpacks itself is no longer than this."""

_UNSOUND: Final = frozenset({0x36, 0x37, 0x38})  # PPMd, Brotli, Deflate64, as py7zr numbers them
_FOLDER_BIT: Final = 0x10
_JUNCTION_BIT: Final = 0x400


def declared_size(head: bytes) -> int:
    """Return how many bytes a 7z has in all, by its first 32 bytes; 0 where they do not tell."""
    if len(head) < _HEADER.size:
        return 0
    _, _, _, offset, size, _ = _HEADER.unpack_from(head)
    return int(_HEADER.size + offset + size) if size else 0


def begins_at(file: JoinedFile) -> int:
    """Return where a 7z begins behind the program that unpacks it; 0 where none does, or it is plain."""
    at = 0
    while at < _MOST_PROGRAM:
        piece = file.read_at(at, _PIECE + len(_MARK))
        found = piece.find(_MARK)
        if found > 0 or (found == 0 and at):
            begin = at + found
            whole = declared_size(file.read_at(begin, _HEADER.size))
            if whole and begin + whole <= file.size:
                return begin
            at = begin + 1
        elif len(piece) <= len(_MARK):
            return 0
        else:
            at += _PIECE
    return 0


class SevenZipArchive(StreamArchive):
    """A 7z whose list of members holds nothing hostile."""

    def __init__(
        self, parts: Sequence[str], name: str, limits: Limits, form: Form, encoding: str = ""
    ) -> None:
        """Read the list of members. Raises ArchiveFault."""
        super().__init__(parts, name, limits, form, encoding)
        with JoinedFile(self.parts) as joined:
            plain = joined.read_at(0, len(_MARK)) == _MARK
            self._begin = 0 if plain else begins_at(joined)
            whole = declared_size(joined.read_at(self._begin, _HEADER.size))
            if self._begin + whole > joined.size:
                raise self.fault(f"is truncated: {joined.size:,} of {whole:,} bytes are here")
            self._admitted(self._open(joined), Gate(name, self.packed_bytes, limits))

    def walk(self, gate: Gate, sink_for: SinkFor) -> None:
        """Unpack all that is wanted, in the archive's order."""
        with JoinedFile(self.parts) as joined:
            archive = self._open(joined)
            members = self._admitted(archive, gate)
            sinks: dict[MemberPath, Sink] = {}
            for member in members:
                if member.is_link:
                    sinks[member.path] = _LinkTarget(member.path, gate)
                elif sink := sink_for(member.path, member.size, member.executable):
                    sinks[member.path] = sink
            joined.ready = self.ready
            if sinks:
                self._unpack(archive, sinks, all_of_them=len(sinks) == len(members))

    def _unpack(
        self, archive: SevenZipFile, sinks: dict[MemberPath, Sink], *, all_of_them: bool
    ) -> None:
        from py7zr.io import WriterFactory

        class Factory(WriterFactory):
            def create(self, filename: str) -> Any:
                return _Adapter(sinks[_key(filename)])

        names = [str(f.filename) for f in archive.files if _key(str(f.filename)) in sinks]
        with self._reading("is damaged"):
            if all_of_them:
                archive.extractall(factory=Factory())
            else:
                archive.extract(targets=names, factory=Factory())

    @contextmanager
    def _reading(self, words: str) -> Iterator[None]:
        """Turn whatever the package raises for bytes that are not as they should be into a fault."""
        import py7zr

        try:
            yield
        except RellumError:
            raise
        except py7zr.exceptions.PasswordRequired as error:
            raise self.fault("is encrypted; its list of members cannot be read") from error
        except py7zr.exceptions.CrcError as error:
            where = f"the member {error.args[-1]}" if error.args[-1] else "it"
            raise self.fault(f"{where} is damaged: its checksum is wrong") from error
        except py7zr.exceptions.UnsupportedCompressionMethodError as error:
            raise ArchiveFault(
                f"{self.name}: it uses an unsupported compression method ({error.args[-1]})",
                hint="Unpack it with another program, then take the folder.",
            ) from error
        except OSError as error:
            if error.errno is not None:  # the disk's fault, not the archive's
                raise
            raise self.fault(f"{words} ({_words(error)})") from error
        except Exception as error:  # of many kinds: the package tells no common one
            raise self.fault(f"{words} ({_words(error)})") from error

    def _open(self, joined: JoinedFile) -> SevenZipFile:
        import py7zr

        _keep_to_sound_decoders()
        tail = Tail(joined, self._begin)
        with self._reading("its list of members cannot be read"):
            archive = py7zr.SevenZipFile(io.BufferedReader(tail, 1 << 18), "r")
        if archive.password_protected:
            raise self.fault("is encrypted; Rellum needs an unencrypted one")
        return archive

    def _admitted(self, archive: SevenZipFile, gate: Gate) -> list[_Listed]:
        """Return each member that is a file or a link."""
        members = []
        for file in archive.files:
            attributes = int(file.file_properties().get("attributes") or 0)
            mode = attributes >> 16 if attributes & 0x8000 else 0
            is_folder = bool(attributes & _FOLDER_BIT) or stat.S_ISDIR(mode)
            size = 0 if file.emptystream else int(file.uncompressed)
            fault = _fault_of_kind(mode, attributes)
            is_link = stat.S_ISLNK(mode)
            if is_link and size > LONGEST_TARGET:
                fault = "is a link whose target is too long"
            path = gate.admit(str(file.filename), size, fault, is_folder=is_folder or is_link)
            if not is_folder:
                members.append(_Listed(path, size, bool(mode & stat.S_IXUSR), is_link))
        return members


class _Listed(NamedTuple):
    """A member as the archive's list declares it; ``size`` is in bytes."""

    path: MemberPath
    size: int
    executable: bool
    is_link: bool


class _LinkTarget:
    """Takes the bytes of a link, which are what it points to."""

    def __init__(self, path: MemberPath, gate: Gate) -> None:
        self._path, self._gate = path, gate
        self._target = b""

    def write(self, piece: bytes | memoryview) -> None:
        self._target += bytes(piece)

    def close(self) -> None:
        self._gate.note_link(self._path, self._target.decode("utf-8", "replace"))


class _Adapter:
    """A sink in the form that py7zr writes to."""

    def __init__(self, sink: Sink) -> None:
        self._sink = sink
        self._size = 0

    def write(self, content: bytes | bytearray) -> int:
        self._sink.write(bytes(content))
        self._size += len(content)
        return len(content)

    def size(self) -> int:
        return self._size

    def seek(self, offset: int, whence: int = 0) -> int:
        return 0

    def read(self, size: int | None = None) -> bytes:
        return b""

    def flush(self) -> None:
        pass

    def close(self) -> None:
        self._sink.close()


def _keep_to_sound_decoders() -> None:
    """Take away the decoders that damaged bytes can make write where they must not.

    The one for PPMd does (``tools/fuzz_archives.py`` found it), and the other rare ones have been
    tried too little. Even the list of members can be packed by any of them, so they must be gone
    before an archive is opened.
    """
    from py7zr import compressor

    for method, (packer, _) in compressor.algorithm_class_map.items():
        if method in _UNSOUND:
            compressor.algorithm_class_map[method] = (packer, None)


def _key(name: str) -> MemberPath:
    return MemberPath(name.replace("\\", "/").rstrip("/"))


def _fault_of_kind(mode: int, attributes: int) -> str:
    kind = stat.S_IFMT(mode)
    if kind != stat.S_IFLNK and attributes & _JUNCTION_BIT:
        return "is a link of an unsupported kind"
    if kind not in (0, stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK):
        return "is neither a file nor a folder"
    return ""


def _words(error: BaseException) -> str:
    return str(error) or type(error).__name__
