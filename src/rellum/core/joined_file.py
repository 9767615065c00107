"""One or several files read as one sequence of bytes."""

from __future__ import annotations

import io
import os
from bisect import bisect_right
from collections.abc import Callable, Sequence
from itertools import accumulate

Ready = Callable[[int], None]
"""Called before bytes up to an offset are read: it may wait until they are there."""


def at_once(_: int) -> None:
    """Everything is there already."""


class Tail(io.RawIOBase):
    """The bytes of a file from ``begin`` on, as a file of their own."""

    def __init__(self, file: JoinedFile, begin: int) -> None:
        super().__init__()
        self._file, self._begin = file, begin
        file.seek(begin)

    def readable(self) -> bool:
        """It can be read."""
        return True

    def seekable(self) -> bool:
        """It can be sought in."""
        return True

    def tell(self) -> int:
        """Return where the next read begins."""
        return self._file.tell() - self._begin

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        """Go to an offset. Raises OSError for one before the beginning."""
        if whence == os.SEEK_SET:
            if offset < 0:
                raise OSError(22, "an offset before the beginning")
            offset += self._begin
        return self._file.seek(offset, whence) - self._begin

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        """Read into a buffer; 0 at the end."""
        return self._file.readinto(buffer)


class JoinedFile(io.RawIOBase):
    """The files ``parts`` after one another, to be read and sought in. ``size`` is in bytes.

    ``ready`` is asked before each read. Raises OSError where a part cannot be opened.
    """

    def __init__(self, parts: Sequence[str], ready: Ready = at_once) -> None:
        super().__init__()
        self.ready = ready
        self._files = [open(part, "rb", buffering=0) for part in parts]  # noqa: SIM115 - see close
        sizes = [os.fstat(file.fileno()).st_size for file in self._files]
        self.starts = tuple(accumulate(sizes[:-1], initial=0))
        self.size = sum(sizes)
        self._at = 0

    def close(self) -> None:
        """Close all parts."""
        for file in self._files:
            file.close()
        super().close()

    def readable(self) -> bool:
        """It can be read."""
        return True

    def seekable(self) -> bool:
        """It can be sought in."""
        return True

    def tell(self) -> int:
        """Return where the next read begins."""
        return self._at

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        """Go to an offset. Raises OSError for one before the beginning."""
        base = {os.SEEK_SET: 0, os.SEEK_CUR: self._at, os.SEEK_END: self.size}[whence]
        if base + offset < 0:
            raise OSError(22, "an offset before the beginning")
        self._at = base + offset
        return self._at

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        """Read into a buffer, at most to the end of a part; 0 at the end of all."""
        if self._at >= self.size or not len(buffer):
            return 0
        self.ready(min(self._at + len(buffer), self.size))
        index = bisect_right(self.starts, self._at) - 1
        file = self._files[index]
        file.seek(self._at - self.starts[index])
        count = file.readinto(buffer) or 0
        self._at += count
        return count

    def read_at(self, offset: int, count: int) -> bytes:
        """Return up to ``count`` bytes at ``offset``, less only at the end."""
        self.seek(offset)
        content = self.read(count) or b""
        while len(content) < count:
            more = self.read(count - len(content))
            if not more:
                break
            content += more
        return content
