"""What of new contents is in old ones: content-defined chunks, used only to find what is the same.

Chunking is that of "FastCDC: A Fast and Efficient Content-Defined Chunking Approach for Data Deduplication"
(Xia and others, 2016), by the package ``fastcdc``. Nothing else of it is kept: a chunk that matches becomes a
copy, and all between two copies is new, compressed with the old bytes that stood there.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from typing import Final, NamedTuple

from blake3 import blake3

from rellum.core.hashing import Digest
from rellum.core.patching.mapped import Content, mapped

_LEAST, _USUAL, _MOST = 1024, 4096, 32768
_AROUND: Final = 4096
"""So many old bytes on each side of a gap go along: what was moved a little is found there."""


class Old(NamedTuple):
    """A piece of an old content."""

    digest: Digest
    offset: int
    size: int


class Copy(NamedTuple):
    """Take a piece of an old content."""

    old: Old


class Fresh(NamedTuple):
    """Take new bytes: where they stand in the new content, and the old bytes that correspond to them."""

    offset: int
    size: int
    like: Old | None


Step = Copy | Fresh


class Named(NamedTuple):
    """A content with the path that it has in its version, and the file in which it lies."""

    path: str
    digest: Digest
    file: str


def match(old: Sequence[Named], new: Sequence[Named]) -> Iterator[tuple[Named, list[Step]]]:
    """Yield, for each new content, the steps that make it. Raises OSError."""
    with ExitStack() as stack:
        contents = {each.digest: stack.enter_context(mapped(each.file)) for each in old}
        places = _places(contents)
        by_path = {each.path: each.digest for each in old}
        by_name = {_plain(each.path): each.digest for each in reversed(old)}
        for each in new:
            with mapped(each.file) as content:
                partner = by_path.get(each.path) or by_name.get(_plain(each.path))
                yield each, list(_steps(content, places, contents, partner))


def _plain(path: str) -> str:
    """Return a name without its digits: that of one file in two versions."""
    return re.sub(r"[0-9a-f]{16,}|[0-9]+", "", path.casefold())


def _places(contents: Mapping[Digest, Content]) -> dict[bytes, Old]:
    found: dict[bytes, Old] = {}
    for digest, content in contents.items():
        for offset, size, key in _chunks(content):
            found.setdefault(key, Old(digest, offset, size))
    return found


def _chunks(content: Content) -> Iterator[tuple[int, int, bytes]]:
    """Yield offset, size and hash of each chunk."""
    from fastcdc import fastcdc

    if not len(content):
        return
    with memoryview(content) as view:
        for chunk in fastcdc(view, min_size=_LEAST, avg_size=_USUAL, max_size=_MOST):
            with view[chunk.offset : chunk.offset + chunk.length] as piece:
                yield chunk.offset, chunk.length, blake3(piece).digest()


def _steps(
    content: Content,
    places: Mapping[bytes, Old],
    contents: Mapping[Digest, Content],
    partner: Digest | None,
) -> Iterator[Step]:
    """Yield copies and what is new between them, each as long as it can be."""
    copy: Old | None = None
    before: Old | None = None  # the copy before what is new
    start = size = 0
    for offset, length, key in _chunks(content):
        at = places.get(key)
        if at is None:
            if copy:
                yield Copy(copy)
                before, copy = copy, None
            if not size:
                start = offset
            size += length
        elif copy and (copy.digest, copy.offset + copy.size) == (at.digest, at.offset):
            copy = copy._replace(size=copy.size + at.size)
        else:
            if copy:
                yield Copy(copy)
                before = copy
            if size:
                yield Fresh(start, size, _like(before, at, contents, partner, size))
                size = 0
            copy = at
    if copy:
        yield Copy(copy)
    if size:
        yield Fresh(start, size, _like(before, None, contents, partner, size))


def _like(
    before: Old | None,
    after: Old | None,
    contents: Mapping[Digest, Content],
    partner: Digest | None,
    size: int,
) -> Old | None:
    """Return the old bytes that stand where new ones do: between the copies around them, else nearby."""
    if (
        before
        and after
        and before.digest == after.digest
        and before.offset + before.size <= after.offset
    ):
        return _within(contents, before.digest, before.offset + before.size, after.offset)
    if before:
        end = before.offset + before.size
        return _within(contents, before.digest, end, end + 2 * size)
    if after:
        return _within(contents, after.digest, after.offset - 2 * size, after.offset)
    if partner:
        return _within(contents, partner, 0, len(contents[partner]))
    return None


def _within(contents: Mapping[Digest, Content], digest: Digest, start: int, end: int) -> Old | None:
    start = max(0, start - _AROUND)
    end = min(len(contents[digest]), end + _AROUND)
    return Old(digest, start, end - start) if end > start else None
