"""Writing so that it survives a power cut. Nothing else in Rellum flushes or replaces files by hand.

``write_durably`` gives the old content or the new one, never a mix: a temporary file in the
target's folder, flushed, renamed over the target, and the folder flushed.

``flush_filesystem`` makes a whole batch of files durable at the cost of one flush instead of one
for each file: ``syncfs(2)`` on Linux, which also reports write-back errors. Elsewhere the caller's
files are flushed one by one, as they are where there are only a few.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Sequence
from contextlib import suppress

from rellum.core.last_word import wrote

_TEMPORARY_SUFFIX = ".rellum-new"
_BLOCK = 4096
"""Bytes; what a file takes at least on most disks."""
_FEW = 32
"""Up to so many files are flushed one by one: that leaves other programs' data out of it."""


def write_durably(path: str, content: bytes) -> None:
    """Replace or make the file at ``path``. Raises OSError; then the old file still stands."""
    temporary = path + _TEMPORARY_SUFFIX
    try:
        with open(temporary, "wb") as file:
            file.write(content)
            file.flush()
            flush(file.fileno())
        os.replace(temporary, path)
        wrote()
    except OSError:
        with suppress(OSError):
            os.unlink(temporary)
        raise
    flush_folder(os.path.dirname(os.path.abspath(path)))


def write_in_one(path: str, content: bytes) -> None:
    """Replace or make a file whose loss does no harm, so that nobody reads half of it. Raises OSError."""
    temporary = f"{path}{_TEMPORARY_SUFFIX}-{os.getpid()}"
    try:
        with open(temporary, "wb") as file:
            file.write(content)
        os.replace(temporary, path)
    except OSError:
        with suppress(OSError):
            os.unlink(temporary)
        raise


def flush(descriptor: int) -> None:
    """Make what is open durable. On macOS fsync(2) leaves it in the drive's cache; F_FULLFSYNC does not.

    Raises OSError.
    """
    if sys.platform == "darwin":
        import fcntl

        try:
            fcntl.fcntl(descriptor, fcntl.F_FULLFSYNC)
            return
        except OSError:  # a file system that has no such call
            pass
    os.fsync(descriptor)


def flush_folder(folder: str) -> None:
    """Make the names in a folder durable. Windows offers no such call and needs none."""
    if os.name == "nt":
        return
    fd = os.open(folder, os.O_RDONLY)
    try:
        flush(fd)
    finally:
        os.close(fd)


def flush_file(path: str) -> None:
    """Make one file's content durable. Raises OSError."""
    fd = os.open(path, os.O_RDWR if os.name == "nt" else os.O_RDONLY)
    try:
        flush(fd)
    finally:
        os.close(fd)


def flush_filesystem(folder: str, files: Sequence[str], folders: Sequence[str]) -> None:
    """Make ``files`` and the names in ``folders`` durable; all lie on the file system of ``folder``.

    Raises OSError, also where an earlier write could not reach the disk.
    """
    many = len(files) + len(folders) > _FEW
    if many and sys.platform == "linux" and _syncfs(folder):
        return
    for file in files:
        flush_file(file)
    for each in folders:
        flush_folder(each)


def bytes_on_disk(sizes: Iterable[int], folder: str) -> int:
    """Return the bytes that files of these sizes take on the disk of a folder, in whole blocks. Raises
    OSError.
    """
    block = os.statvfs(folder).f_frsize if hasattr(os, "statvfs") else _BLOCK
    return sum(-(-size // block) for size in sizes) * block


def _syncfs(folder: str) -> bool:
    """Flush the whole file system by syncfs(2); False where the C library has no such call."""
    import ctypes

    libc = ctypes.CDLL(None, use_errno=True)
    if not hasattr(libc, "syncfs"):
        return False
    fd = os.open(folder, os.O_RDONLY)
    try:
        if libc.syncfs(fd) != 0:
            number = ctypes.get_errno()
            raise OSError(number, os.strerror(number), folder)
    finally:
        os.close(fd)
    return True
