"""Files as bytes without reading them into memory."""

from __future__ import annotations

import mmap
from collections.abc import Iterator
from contextlib import contextmanager

Content = bytes | mmap.mmap
"""A whole content, in memory or mapped."""


@contextmanager
def mapped(file: str) -> Iterator[Content]:
    """Give a file's content. Raises OSError."""
    with open(file, "rb") as stream:
        try:
            content = mmap.mmap(stream.fileno(), 0, access=mmap.ACCESS_READ)
        except ValueError:  # an empty file cannot be mapped
            yield b""
            return
        with content:
            yield content


def let_go(content: Content) -> None:
    """Let the system take back the memory of what was read of a mapped file."""
    if isinstance(content, mmap.mmap) and hasattr(mmap, "MADV_DONTNEED"):
        content.madvise(mmap.MADV_DONTNEED)
