"""Content is known by its BLAKE3 hash; SHA-256 stands beside it only where somebody published one."""

from __future__ import annotations

import errno
import os
import stat
from typing import NewType

Digest = NewType("Digest", str)
"""A BLAKE3 hash as 64 lower-case hexadecimal digits."""

CHUNK_BYTES = 1 << 20


def hash_bytes(content: bytes) -> Digest:
    """Return the BLAKE3 hash of bytes in memory."""
    from blake3 import blake3  # what only lists or looks does without

    return Digest(blake3(content).hexdigest())


def short_hash(content: bytes) -> str:
    """Return the first half of the BLAKE3 hash of bytes: enough to see that they are the same."""
    return hash_bytes(content)[:32]


def open_regular(path: str | os.PathLike[str]) -> int:
    """Open a file for reading and return its descriptor. Raises OSError, also for what is no file.

    A pipe would block, and opening a device can have effects: neither is opened.
    """
    if not stat.S_ISREG(os.stat(path).st_mode):
        raise OSError(errno.EINVAL, "is no file that can be read", os.fspath(path))
    flags = os.O_RDONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_NONBLOCK", 0)
    return os.open(path, flags)


def hash_file(path: str | os.PathLike[str]) -> Digest:
    """Return the BLAKE3 hash of a file, read in pieces of 1 MiB. Raises OSError."""
    from blake3 import blake3

    hasher = blake3()
    fd = open_regular(path)
    try:
        while piece := os.read(fd, CHUNK_BYTES):
            hasher.update(piece)
    finally:
        os.close(fd)
    return Digest(hasher.hexdigest())


def sha256_file(path: str | os.PathLike[str]) -> str:
    """Return the SHA-256 of a file in hexadecimal. Raises OSError."""
    import hashlib  # rarely wanted, and slow to import

    with open(open_regular(path), "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
