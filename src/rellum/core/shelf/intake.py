"""Bringing a file to the shelf: one pass over its bytes copies and hashes it; others can read behind it."""

from __future__ import annotations

import hashlib
import os
import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from blake3 import blake3

from rellum.core.archives.inflate import crc32
from rellum.core.errors import UserError
from rellum.core.hashing import CHUNK_BYTES, Digest

By = Literal["copy", "link", "move"]

_FICLONE = 0x40049409
"""The Linux call that lets two files share their bytes until one is written to."""


class StillComing(UserError):
    """A file changed while it was read."""

    code = "still-coming"


@dataclass(frozen=True, slots=True, kw_only=True)
class Hashes:
    """A file's size in bytes, its BLAKE3 hash, and the others that were asked for, by name."""

    size: int
    digest: Digest
    others: Mapping[str, str]


class Passage:
    """Reads a file once, in a thread of its own: hashes it and writes its copy.

    ``wait_for`` is how those who read the same file stay behind it, so that the disk is read once.
    """

    def __init__(self, source: str, target: str, by: By, also: frozenset[str]) -> None:
        """``also`` names further hashes: crc32, md5, sha1, sha256, sha512. Raises OSError."""
        self._source, self._target = source, target
        self._before = os.stat(source)
        self._copies = not _shared(source, target, by)
        self._hasher = blake3()
        self._others = {name: _hasher(name) for name in sorted(also)}
        self._done = 0
        self._failure: BaseException | None = None
        self._stopped = False
        self._moved = threading.Condition()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def wait_for(self, offset: int) -> None:
        """Wait until the bytes before ``offset`` have been read. Raises what the reading raised."""
        with self._moved:
            while self._done < offset and self._thread.is_alive() and not self._failure:
                self._moved.wait(0.5)
        if self._failure:
            raise self._failure

    def stop(self) -> None:
        """Give up."""
        self._stopped = True
        self._thread.join()

    def finish(self) -> Hashes:
        """Wait for the end; the copy is then durable. Raises OSError, StillComing."""
        self._thread.join()
        if self._failure:
            raise self._failure
        after = os.stat(self._source)
        seen = (self._before.st_size, self._before.st_mtime_ns)
        if (after.st_size, after.st_mtime_ns) != seen or self._done != after.st_size:
            raise StillComing(
                f"{self._source}: it changed while it was read: it is still being written",
                hint="Wait until it is all there, then take it again.",
            )
        return Hashes(
            size=self._done,
            digest=Digest(self._hasher.hexdigest()),
            others={name: hasher.hexdigest() for name, hasher in self._others.items()},
        )

    def _run(self) -> None:
        try:
            with open(self._source, "rb", buffering=0) as reader:
                if self._copies:
                    with open(self._target, "wb", buffering=0) as writer:
                        self._carry(reader, writer.write)
                        os.fsync(writer.fileno())
                else:
                    self._carry(reader, len)
        except BaseException as error:
            self._failure = error
        finally:
            with self._moved:
                self._moved.notify_all()

    def _carry(self, reader: Any, write: Callable[[bytes], int]) -> None:
        while not self._stopped and (piece := reader.read(CHUNK_BYTES)):
            self._hasher.update(piece)
            for hasher in self._others.values():
                hasher.update(piece)
            written = write(piece)
            while written < len(piece):
                written += write(piece[written:])
            with self._moved:
                self._done += len(piece)
                self._moved.notify_all()


class _Crc32:
    """CRC-32 in the form of a hash of ``hashlib``."""

    def __init__(self) -> None:
        self._value = 0

    def update(self, piece: bytes) -> None:
        self._value = crc32(piece, self._value)

    def hexdigest(self) -> str:
        return f"{self._value:08x}"


def _hasher(name: str) -> Any:
    # MD5 and SHA-1 only ever recognise; nothing is trusted by them.
    return _Crc32() if name == "crc32" else hashlib.new(name, usedforsecurity=False)


def _shared(source: str, target: str, by: By) -> bool:
    """Let the target be the source's bytes without copying them, where that can be done."""
    if by == "copy":
        return reflink(source, target)
    try:
        os.link(source, target)
    except OSError:  # another disk, or a file system without links
        return False
    return True


def reflink(source: str, target: str) -> bool:
    """Make a file that shares the blocks of another; False where the file system cannot.

    The target is there afterwards in any case, empty where it failed. Raises OSError.
    """
    try:
        import fcntl
    except ImportError:  # Windows
        return False
    with open(source, "rb") as reader, open(target, "wb") as writer:
        try:
            fcntl.ioctl(writer.fileno(), _FICLONE, reader.fileno())
            os.fsync(writer.fileno())
        except OSError:
            return False
    return True


def hashes_of(path: str, also: frozenset[str]) -> Hashes:
    """Return a file's hashes, all in one pass over its bytes. Raises OSError."""
    hashers = {"blake3": blake3(), **{name: _hasher(name) for name in sorted(also)}}
    size = 0
    with open(path, "rb", buffering=0) as reader:
        while piece := reader.read(CHUNK_BYTES):
            size += len(piece)
            for hasher in hashers.values():
                hasher.update(piece)
    digest = Digest(hashers.pop("blake3").hexdigest())
    others = {name: hasher.hexdigest() for name, hasher in hashers.items()}
    return Hashes(size=size, digest=digest, others=others)
