"""Deltas: what leads from one version of a feed to another, as one object.

It begins with a mark of eight bytes and the lengths of the two parts that follow: the new index as a
difference from the old one, and the recipe. Then come the segments. The recipe says, file by file, what is
copied out of old contents and how many bytes are taken from the stream of new ones; that stream is cut into
segments of at most 32 MiB, each compressed (Zstandard, RFC 8878) with at most 64 MiB of corresponding old
bytes as its prefix. So small changes of many files cost no more than one difference of all of them, and
nothing is held in memory whole.
"""

from __future__ import annotations

import json
import os
import struct
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, suppress
from typing import Any, BinaryIO, Final, NamedTuple

from blake3 import blake3

from rellum.core.feed.feed_index import FeedFault, pack_text, unpack_text
from rellum.core.feed.matching import Copy, Fresh, Named, Old, Step, match
from rellum.core.hashing import Digest
from rellum.core.patching.mapped import Content, let_go, mapped
from rellum.core.zstandard import zstd

_MARK: Final = b"RLMDELT1"
_HEAD: Final = struct.Struct("<8sII")
_MOST_NEW: Final = 32 << 20
_MOST_OLD: Final = 64 << 20
_MOST_WINDOW_LOG: Final = 27
"""128 MiB: a decoder needs no more memory than it has by default."""
_LEVEL: Final = 9
_MOST_RECIPE_BYTES: Final = 64 << 20
_PIECE: Final = 4 << 20
_NEW: Final = -1
"""Stands in a recipe where bytes are taken from the new ones."""


class DeltaHead(NamedTuple):
    """Where the parts of a delta are: bytes from its beginning."""

    index_end: int
    recipe_end: int


class _Segment(NamedTuple):
    packed: int
    size: int
    prefix: tuple[Old, ...]


class _Making(NamedTuple):
    """A new content, and its steps: an old content's number (or new), offset, size."""

    digest: Digest
    size: int
    steps: tuple[tuple[int, int, int], ...]


class Sides(NamedTuple):
    """The contents of two versions, each in the order of their hashes: a recipe names them by number."""

    old: tuple[Digest, ...]
    new: tuple[Digest, ...]

    @classmethod
    def of(cls, old: Iterable[Digest], new: Iterable[Digest]) -> Sides:
        """Return the sides of a delta between two versions with these contents."""
        return cls(tuple(sorted(set(old))), tuple(sorted(set(new))))


class Recipe(NamedTuple):
    """What a delta does: the old contents that it draws on, new contents in order, segments of new bytes."""

    old: tuple[Digest, ...]
    files: tuple[_Making, ...]
    segments: tuple[_Segment, ...]
    numbered: tuple[Digest, ...]


def write_delta(
    sides: Sides,
    old: Sequence[Named],
    new: Sequence[Named],
    before: bytes,
    index: bytes,
    out: BinaryIO,
) -> DeltaHead:
    """Write the delta that makes some contents of the new side out of some of the old one.

    ``before`` and ``index`` are the texts of the indexes. Raises OSError.
    """
    import tempfile

    numbers = {digest: number for number, digest in enumerate(sides.old)}
    new_numbers = {digest: number for number, digest in enumerate(sides.new)}
    with ExitStack() as stack:
        contents = {each.digest: stack.enter_context(mapped(each.file)) for each in old}
        stream = stack.enter_context(tempfile.TemporaryFile())
        writer = _SegmentWriter(contents, stream)
        files = []
        for each, steps in match(old, new):
            with mapped(each.file) as content:
                for step in steps:
                    if isinstance(step, Fresh):
                        writer.add(content, step)
                size = len(content)
            files.append([new_numbers[each.digest], size, list(_numbers(steps, numbers))])
        segments = [
            [
                s.packed,
                s.size,
                [part for o in s.prefix for part in (numbers[o.digest], o.offset, o.size)],
            ]
            for s in writer.close()
        ]
        recipe = {"files": files, "segments": segments}
        text = json.dumps(recipe, sort_keys=True, separators=(",", ":")).encode("ascii")
        parts = pack_text(index, before), pack_text(text)
        out.write(_HEAD.pack(_MARK, *map(len, parts)))
        for part in parts:
            out.write(part)
        stream.seek(0)
        while piece := stream.read(_PIECE):
            out.write(piece)
    return DeltaHead(_HEAD.size + len(parts[0]), _HEAD.size + len(parts[0]) + len(parts[1]))


def _numbers(steps: Iterable[Step], numbers: Mapping[Digest, int]) -> Iterator[int]:
    for step in steps:
        if isinstance(step, Copy):
            yield from (numbers[step.old.digest], step.old.offset, step.old.size)
        else:
            yield from (_NEW, 0, step.size)


class _SegmentWriter:
    """Cuts the stream of new bytes into segments, and compresses each with the old bytes that correspond."""

    def __init__(self, contents: Mapping[Digest, Content], stream: BinaryIO) -> None:
        self._contents, self._stream = contents, stream
        self._new = bytearray()
        self._like: list[Old] = []
        self._like_bytes = 0
        self._segments: list[_Segment] = []

    def add(self, content: Content, fresh: Fresh) -> None:
        """Add new bytes."""
        at, left = fresh.offset, fresh.size
        while left:
            size = min(left, _MOST_NEW - len(self._new))
            if like := _part(fresh, at, size):
                self._like.append(like)
                self._like_bytes += like.size
            self._new += content[at : at + size]
            at, left = at + size, left - size
            if len(self._new) >= _MOST_NEW or self._like_bytes >= _MOST_OLD:
                self._close_segment()

    def close(self) -> list[_Segment]:
        """Write what is left; return all segments."""
        self._close_segment()
        return self._segments

    def _close_segment(self) -> None:
        if not self._new:
            return
        prefix = _joined(self._like)
        packed = _compressed(bytes(self._new), _bytes_of(prefix, self._contents))
        self._stream.write(packed)
        self._segments.append(_Segment(len(packed), len(self._new), tuple(prefix)))
        self._new, self._like, self._like_bytes = bytearray(), [], 0
        for content in self._contents.values():
            let_go(content)


def _part(fresh: Fresh, at: int, size: int) -> Old | None:
    """Return the old bytes that correspond to a part of what is new; all of them where they are few."""
    like = fresh.like
    if like is None or like.size <= _MOST_OLD // 2:
        return like
    scale = like.size / fresh.size
    start = max(0, int((at - fresh.offset) * scale) - size // 4)
    return Old(
        like.digest, like.offset + start, min(like.size - start, size + size // 2, _MOST_OLD // 2)
    )


def _joined(pieces: Iterable[Old]) -> list[Old]:
    """Return pieces without what is in two of them, at most so many bytes."""
    found: list[Old] = []
    for each in sorted(pieces):
        last = found[-1] if found else None
        if last and last.digest == each.digest and each.offset <= last.offset + last.size:
            end = max(last.offset + last.size, each.offset + each.size)
            found[-1] = last._replace(size=end - last.offset)
        else:
            found.append(each)
    left = _MOST_OLD
    bounded = []
    for each in found:
        if left and each.size:
            bounded.append(each._replace(size=min(each.size, left)))
            left -= bounded[-1].size
    return bounded


def _bytes_of(pieces: Iterable[Old], contents: Mapping[Digest, Content]) -> bytes:
    return b"".join(contents[each.digest][each.offset : each.offset + each.size] for each in pieces)


def _compressed(new: bytes, old: bytes) -> bytes:
    library = zstd()
    parameters: Any = library.CompressionParameter
    window = min(_MOST_WINDOW_LOG, max(17, (len(old) + len(new)).bit_length()))
    options = {
        int(parameters.compression_level): _LEVEL,
        int(parameters.window_log): window,
        int(parameters.enable_long_distance_matching): 1,
        int(parameters.checksum_flag): 1,
    }
    prefix = library.ZstdDict(old, is_raw=True).as_prefix if len(old) >= 8 else None
    found: bytes = library.compress(new, options=options, zstd_dict=prefix)
    return found


def read_head(head: bytes) -> DeltaHead:
    """Read the first bytes of a delta. Raises FeedFault."""
    if len(head) < _HEAD.size or not head.startswith(_MARK):
        raise FeedFault("the feed's delta is none that this Rellum reads")
    _, index, recipe = _HEAD.unpack(head[: _HEAD.size])
    return DeltaHead(_HEAD.size + index, _HEAD.size + index + recipe)


def new_index(part: bytes, before: bytes) -> bytes:
    """Return the text of the new index from a delta's first part. Raises FeedFault."""
    return unpack_text(part[_HEAD.size :], before)


def read_recipe(part: bytes, sides: Sides) -> Recipe:
    """Read a delta's recipe and check it. Raises FeedFault."""
    text = unpack_text(part, most=_MOST_RECIPE_BYTES)
    try:
        said = json.loads(text)
        old = sides.old
        files = tuple(
            _Making(sides.new[_natural(number)], _natural(size), _threes(steps))
            for number, size, steps in said["files"]
        )
        segments = tuple(
            _Segment(
                _natural(packed),
                _natural(size),
                tuple(Old(old[_natural(n)], a, b) for n, a, b in _threes(prefix)),
            )
            for packed, size, prefix in said["segments"]
        )
    except (ValueError, KeyError, TypeError, IndexError, RecursionError) as error:
        raise FeedFault(f"the feed's delta is damaged ({error})") from error
    for making in files:
        wrong = any(n < _NEW or n >= len(old) or a < 0 or b < 0 for n, a, b in making.steps)
        if wrong or sum(step[2] for step in making.steps) != making.size:
            raise FeedFault("the feed's delta is damaged: its parts do not add up")
    for each in segments:
        reach = sum(piece.size for piece in each.prefix)
        if not 0 <= each.size <= _MOST_NEW or reach > _MOST_OLD or each.packed > 2 * _MOST_NEW:
            raise FeedFault("the feed's delta has a segment that is too large")
    drawn_on = {old[number] for making in files for number, _, _ in making.steps if number != _NEW}
    drawn_on |= {piece.digest for each in segments for piece in each.prefix}
    return Recipe(tuple(sorted(drawn_on)), files, segments, old)


def _natural(value: object) -> int:
    if type(value) is not int or value < 0:
        raise ValueError(f"{value!r} is no number")
    return value


def _threes(numbers: Sequence[object]) -> tuple[tuple[int, int, int], ...]:
    parts = [each for each in numbers if type(each) is int]
    if len(parts) != len(numbers):
        raise ValueError("what should be a number is none")
    return tuple(zip(parts[0::3], parts[1::3], parts[2::3], strict=True))


def apply_delta(
    recipe: Recipe,
    segments: BinaryIO,
    old: Mapping[Digest, str],
    target_of: Callable[[Digest], str],
) -> None:
    """Make new contents, each in the file that ``target_of`` names; each must have its hash.

    ``segments`` is what follows the recipe; ``old`` are the files of the old contents. Raises FeedFault,
    OSError.
    """
    with ExitStack() as stack:
        contents = {digest: stack.enter_context(mapped(old[digest])) for digest in recipe.old}
        fresh = _Stream(recipe.segments, segments, contents)
        for making in recipe.files:
            part = f"{target_of(making.digest)}.part"
            try:
                if _made(making, recipe, contents, fresh, part) != making.digest:
                    raise FeedFault("what the feed's delta makes is not what it should be")
                os.replace(part, target_of(making.digest))
            finally:
                with suppress(FileNotFoundError):
                    os.unlink(part)


def _made(
    making: _Making,
    recipe: Recipe,
    contents: Mapping[Digest, Content],
    fresh: _Stream,
    file: str,
) -> str:
    """Write a new content into a file; return its hash. Raises FeedFault, OSError."""
    hasher = blake3()
    read = 0
    with open(file, "wb") as out:
        for number, offset, size in making.steps:
            old = contents[recipe.numbered[number]] if number != _NEW else b""
            if (read := read + size) > _MOST_NEW:  # else all that was read counts as memory in use
                read = size
                for each in contents.values():
                    let_go(each)
            for piece in fresh.take(size) if number == _NEW else _pieces(old, offset, size):
                out.write(piece)
                hasher.update(piece)
    return hasher.hexdigest()


def _pieces(content: Content, offset: int, size: int) -> Iterator[bytes]:
    if offset + size > len(content):
        raise FeedFault("the feed's delta reaches beyond an old file")
    for at in range(offset, offset + size, _PIECE):
        yield content[at : min(at + _PIECE, offset + size)]
        if size > _PIECE:
            let_go(content)


class _Stream:
    """The new bytes, one segment unpacked at a time."""

    def __init__(
        self, segments: Sequence[_Segment], packed: BinaryIO, contents: Mapping[Digest, Content]
    ) -> None:
        self._waiting = iter(segments)
        self._packed, self._contents = packed, contents
        self._content = b""
        self._at = 0

    def take(self, size: int) -> Iterator[bytes]:
        """Yield the next bytes. Raises FeedFault where there are not so many."""
        while size:
            if self._at == len(self._content):
                self._content, self._at = self._next(), 0
            piece = self._content[self._at : self._at + size]
            self._at += len(piece)
            size -= len(piece)
            yield piece

    def _next(self) -> bytes:
        segment = next(self._waiting, None)
        if segment is None:
            raise FeedFault("the feed's delta has fewer bytes than it says")
        self._content = b""  # of old bytes, packed ones and new ones each lie in memory once
        packed = self._packed.read(segment.packed)
        prefix = _bytes_of(segment.prefix, self._contents)
        self._let_go()
        content = unpack_text(packed, prefix, most=segment.size)
        if len(content) != segment.size or not content:
            raise FeedFault("the feed's delta is damaged")
        return content

    def _let_go(self) -> None:
        for each in self._contents.values():
            let_go(each)
