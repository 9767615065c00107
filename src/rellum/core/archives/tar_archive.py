"""Tar (POSIX.1-2001 pax, ustar, GNU), plain or packed by gzip, bzip2, xz or zstd (RFC 8878)."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import stat
import tarfile
from typing import IO, Any, Final, cast

from rellum.core.archives.gate import Gate
from rellum.core.archives.inflate import PIECE_BYTES
from rellum.core.archives.model import Form
from rellum.core.archives.names import decode, guess_encoding
from rellum.core.archives.stream_archive import SinkFor, StreamArchive, pour
from rellum.core.errors import RellumError
from rellum.core.joined_file import JoinedFile
from rellum.core.zstandard import zstd

_BUFFER_BYTES: Final = 1 << 18
_MOST_HEADER_BYTES: Final = 1 << 20
"""Bytes of an extended header (long names, pax records): they are held in memory."""


class _BoundedInfo(tarfile.TarInfo):
    """Refuses extended headers that no real archive has."""

    def _proc_member(self, tar: tarfile.TarFile) -> tarfile.TarInfo:
        kinds = (
            tarfile.GNUTYPE_LONGNAME,
            tarfile.GNUTYPE_LONGLINK,
            tarfile.XHDTYPE,
            tarfile.XGLTYPE,
            tarfile.SOLARIS_XHDTYPE,
        )
        if self.type in kinds and self.size > _MOST_HEADER_BYTES:
            raise tarfile.ReadError(f"an extended header of {self.size:,} bytes")
        proceed = cast(Any, super())._proc_member
        return cast(tarfile.TarInfo, proceed(tar))


class TarArchive(StreamArchive):
    """A tar. Nothing of it is known before it is read."""

    def walk(self, gate: Gate, sink_for: SinkFor) -> None:
        """Read the tar through, and its packing to the end, whose checksum is then looked at."""
        try:
            with JoinedFile(self.parts, self.ready) as joined:
                stream = open_packed(io.BufferedReader(joined, _BUFFER_BYTES), self.form)
                self.walk_stream(stream, gate, sink_for)
                while stream.read(PIECE_BYTES):
                    pass
        except RellumError:
            raise
        except OSError as error:
            if error.errno is not None:  # the disk's fault, not the archive's
                raise
            raise self.fault(f"is damaged or truncated ({error})") from error
        except Exception as error:  # each packer has errors of its own
            raise self.fault(f"is damaged or truncated ({error})") from error

    def walk_stream(self, stream: IO[bytes], gate: Gate, sink_for: SinkFor) -> None:
        """Read a tar that is not packed. Raises what ``tarfile`` raises, and ArchiveFault."""
        with tarfile.open(
            fileobj=stream,
            mode="r|",
            errors="surrogateescape",
            bufsize=_BUFFER_BYTES,
            tarinfo=_BoundedInfo,
        ) as tar:
            while (info := tar.next()) is not None:
                cast(Any, tar).members = []  # the library would remember each of millions
                name = _within(self._name(info.name))
                if not name and info.isdir():
                    continue
                if info.issym() or info.islnk():
                    target = self._name(info.linkname)
                    target = _within(target) if info.islnk() else target
                    gate.note_link(name, target, from_top=info.islnk())
                    continue
                fault = _fault_of_kind(info)
                path = gate.admit(name, info.size, fault, is_folder=info.isdir())
                if info.isdir():
                    continue
                sink = sink_for(path, info.size, bool(info.mode & stat.S_IXUSR))
                content = tar.extractfile(info)
                if sink is None or content is None:
                    continue
                pour(content, sink)

    def _name(self, name: str) -> str:
        """Return a name that is no UTF-8 in the encoding that is likeliest for the first such name."""
        raw = name.encode("utf-8", "surrogateescape")
        try:
            return raw.decode("utf-8")
        except UnicodeDecodeError:
            self.encoding = self.encoding or guess_encoding([raw])
            return decode(raw, self.encoding)


def open_packed(stream: IO[bytes], form: Form) -> IO[bytes]:
    """Return the unpacked bytes of a packed file."""
    if form == "tar.gz":
        return cast(IO[bytes], _gzip().open(stream))
    if form == "tar.bz2":
        return cast(IO[bytes], bz2.open(stream))
    if form == "tar.xz":
        return cast(IO[bytes], lzma.open(stream))
    if form == "tar.zst":
        return cast(IO[bytes], zstd().open(stream))
    return stream


def _gzip() -> Any:
    try:
        from isal import igzip
    except ImportError:  # no build for this processor
        return gzip
    return igzip


def _within(name: str) -> str:
    """Return a name without the ``./`` that says: in the folder that was packed."""
    while name.startswith("./"):
        name = name[2:].lstrip("/")
    return "" if name == "." else name


def _fault_of_kind(info: tarfile.TarInfo) -> str:
    if info.ischr() or info.isblk():
        return "is a device"
    if not (info.isreg() or info.isdir()):
        return "is neither a file nor a folder"
    return ""
