"""Writing content into packs: small files side by side in frames of a megabyte, large ones in segments."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any, Final, NamedTuple

from blake3 import blake3

from rellum.core.feed.feed_index import (
    MOST_FRAME_BYTES,
    MOST_PACK_BYTES,
    FeedFile,
    Frame,
    Index,
    Pack,
    Span,
)
from rellum.core.hashing import Digest
from rellum.core.zstandard import zstd

_SOLID: Final = 1 << 20
"""Small files are put together until there are so many bytes."""
_LEVEL: Final = 9


class Source(NamedTuple):
    """A file to be published: its path in the feed, its content's size and hash, and where it lies."""

    path: str
    size: int
    digest: Digest
    file: str


Put = Callable[[str, bytes], None]
"""Writes an object of the feed under a name; one that is there stays."""


def write_packs(
    sources: Iterable[Source], before: Index | None, put: Put
) -> tuple[list[Pack], list[FeedFile]]:
    """Write what no earlier version has into new packs; return all packs in use and all files.

    A content that a pack of the version before has is not written again. Raises OSError.
    """
    writer = _Writer(put)
    known = before.by_digest if before else {}
    old_packs = before.packs if before else ()
    used: dict[int, int] = {}
    kept: list[tuple[Source, FeedFile]] = []
    fresh: dict[Digest, Source] = {}
    sources = sorted(sources)
    for each in sources:
        if each.digest in known:
            kept.append((each, known[each.digest]))
        else:
            fresh.setdefault(each.digest, each)
    packs: list[Pack] = []
    for _, file in kept:
        for span in file.spans:
            if span.pack not in used:
                used[span.pack] = len(packs)
                packs.append(old_packs[span.pack])
    spans = {
        each.digest: tuple(s._replace(pack=used[s.pack]) for s in file.spans) for each, file in kept
    }
    first = len(packs)
    for digest, found in writer.write(fresh.values()):
        spans[digest] = tuple(span._replace(pack=span.pack + first) for span in found)
    packs += writer.packs
    return packs, [
        FeedFile(each.path, each.size, each.digest, spans[each.digest]) for each in sources
    ]


class _Writer:
    """Packs that are being written: the frame that is filled, and the pack that its frames go to."""

    def __init__(self, put: Put) -> None:
        self.packs: list[Pack] = []
        self._put = put
        self._frame = bytearray()
        self._packed = bytearray()
        self._frames: list[Frame] = []
        self._spans: dict[Digest, list[Span]] = {}

    def write(self, sources: Iterable[Source]) -> Iterator[tuple[Digest, tuple[Span, ...]]]:
        """Write contents; yield where each is. Raises OSError."""
        part = ""
        for each in sources:
            if each.path.partition("/")[0] != part:  # who wants the texts first gets them alone
                self._close_frame()
                part = each.path.partition("/")[0]
            self._spans[each.digest] = []
            with open(each.file, "rb") as file:
                left = each.size
                while left:
                    if each.size > _SOLID or len(self._frame) + left > MOST_FRAME_BYTES:
                        self._close_frame()
                    content = file.read(min(left, MOST_FRAME_BYTES))
                    if not content:
                        raise OSError(f"{each.file} became shorter while it was read")
                    self._add(each.digest, content)
                    left -= len(content)
                    if len(self._frame) >= _SOLID:
                        self._close_frame()
        self._close_frame()
        self._close_pack()
        yield from ((digest, tuple(found)) for digest, found in self._spans.items())

    def _add(self, digest: Digest, content: bytes) -> None:
        span = Span(len(self.packs), len(self._frames), len(self._frame), len(content))
        self._spans[digest].append(span)
        self._frame += content

    def _close_frame(self) -> None:
        if not self._frame:
            return
        packed = _compressed(bytes(self._frame))
        if self._packed and len(self._packed) + len(packed) > MOST_PACK_BYTES:
            # The frame belongs to the next pack: what was said of where it is moves along.
            number, frame = len(self.packs), len(self._frames)
            self._close_pack()
            for found in self._spans.values():
                if found and found[-1][:2] == (number, frame):
                    found[-1] = found[-1]._replace(pack=number + 1, frame=0)
        self._frames.append(Frame(len(self._packed), len(packed), len(self._frame)))
        self._packed += packed
        self._frame = bytearray()

    def _close_pack(self) -> None:
        if not self._packed:
            return
        content = bytes(self._packed)
        name = Digest(blake3(content).hexdigest())
        self._put(f"packs/{name}.pack", content)
        self.packs.append(Pack(name, tuple(self._frames)))
        self._packed, self._frames = bytearray(), []


def _compressed(content: bytes) -> bytes:
    library = zstd()
    parameters: Any = library.CompressionParameter
    options = {int(parameters.compression_level): _LEVEL, int(parameters.checksum_flag): 1}
    found: bytes = library.compress(content, options=options)
    return found
