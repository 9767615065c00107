"""Bringing a version: its index and its contents, by a delta if one is offered, else by ranges of packs."""

from __future__ import annotations

import os
import tempfile
from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Mapping
from contextlib import suppress
from typing import Final, NamedTuple

from blake3 import blake3

from rellum.core.feed.delta import Sides, apply_delta, new_index, read_head, read_recipe
from rellum.core.feed.feed_index import (
    MOST_PACK_BYTES,
    FeedFault,
    Frame,
    Index,
    Span,
    read_index,
    unpack_text,
)
from rellum.core.feed.metadata import DeltaOffer, VersionEntry
from rellum.core.feed.reading import FeedReader, NotInFeed, Range
from rellum.core.feed.trusting import read_index_text, verified_text
from rellum.core.hashing import Digest, hash_file
from rellum.core.progress import Listener, Progress, silent

_GAP: Final = 256 << 10
"""What lies between two ranges is asked for along with them, if it is no more: a request costs more."""
_MOST_DELTA_BYTES: Final = 1 << 40


class KnownVersion(NamedTuple):
    """A version that is here: its number and its index's text."""

    version: int
    text: bytes


class Found(NamedTuple):
    """A version's index, with the first part of the delta that it came by, if it came by one."""

    text: bytes
    listing: Index
    offer: DeltaOffer | None
    first_part: bytes


TargetOf = Callable[[Digest], str]


def bring_index(reader: FeedReader, entry: VersionEntry, known: KnownVersion | None) -> Found:
    """Return a version's index; one that is here is not asked for.

    Raises NotTrusted, FeedFault and what reading can raise.
    """
    if known is not None and known.version == entry.version:
        with suppress(FeedFault):  # else what is here was damaged, and comes anew
            return Found(
                verified_text(known.text, entry), read_index(known.text, entry.version), None, b""
            )
    offer = next((each for each in entry.deltas if known and each.version == known.version), None)
    if offer is not None and known is not None:
        with suppress(NotInFeed, FeedFault):
            part = reader.read(_object(offer), MOST_PACK_BYTES, 0, offer.index_end)
            text = verified_text(new_index(part, known.text), entry)
            return Found(text, read_index(text, entry.version), offer, part)
    text = read_index_text(reader, entry)
    return Found(text, read_index(text, entry.version), None, b"")


def _object(offer: DeltaOffer) -> str:
    return f"deltas/{offer.name}.delta"


def bring_contents(
    reader: FeedReader,
    found: Found,
    known: Index | None,
    have: Mapping[Digest, str],
    wanted: Collection[Digest],
    target_of: TargetOf,
    listen: Listener = silent,
) -> None:
    """Write contents into the files that ``target_of`` names; each has the hash that it is called by.

    ``known`` is the version that is here, ``have`` where its contents lie. Raises FeedFault, and what reading
    can raise.
    """
    left = set(wanted)
    ranges = _ranges(found.listing, left)
    by_ranges = sum(each.size for each in ranges)
    offer = found.offer
    if left and known and offer and offer.size - offer.index_end < by_ranges:
        with suppress(NotInFeed, FeedFault):
            made = _by_delta(reader, found, known, have, target_of, listen)
            left -= made
    if left:
        _by_ranges(reader, found.listing, left, target_of, listen)


def _by_delta(
    reader: FeedReader,
    found: Found,
    known: Index,
    have: Mapping[Digest, str],
    target_of: TargetOf,
    listen: Listener,
) -> set[Digest]:
    """Make contents by a delta; return which. Raises FeedFault where it cannot be used."""
    offer = found.offer
    assert offer is not None
    hasher = blake3(found.first_part)
    with tempfile.TemporaryFile() as rest:
        size = offer.size - offer.index_end
        arriving = _Arriving(listen, 1, size)
        reader.will_read([Range(_object(offer), offer.index_end, size)])
        for piece in reader.stream(_object(offer), offer.index_end, size):
            hasher.update(piece)
            rest.write(piece)
            arriving.add(len(piece))
        if hasher.hexdigest() != offer.name:
            raise FeedFault("the feed's delta is not what its name says")
        head = read_head(found.first_part[:16])
        rest.seek(0)
        sides = Sides.of(known.by_digest, found.listing.by_digest)
        recipe = read_recipe(rest.read(head.recipe_end - head.index_end), sides)
        old = {
            digest: file
            for digest in recipe.old
            if (file := have.get(digest)) and os.path.isfile(file)
        }
        if set(recipe.old) - old.keys() or any(
            hash_file(file) != digest for digest, file in old.items()
        ):
            raise FeedFault("an old content that the feed's delta draws on is not here")
        apply_delta(recipe, rest, old, target_of)
    return {each.digest for each in recipe.files}


def _pack(index: Index, number: int) -> str:
    return f"packs/{index.packs[number].name}.pack"


class _Arriving:
    """Tells a listener how many bytes have come."""

    def __init__(self, listen: Listener, parts: int, size: int) -> None:
        self._listen, self._parts, self._size = listen, parts, size
        self._came = 0

    def add(self, count: int) -> None:
        """Tell of more bytes."""
        self._came += count
        self._listen(Progress("fetching", 0, self._parts, self._came, self._size))


class _PackRange(NamedTuple):
    """Bytes of a pack, and the frames in them, with the number of each."""

    pack: int
    start: int
    size: int
    frames: tuple[tuple[int, Frame], ...]


def _ranges(index: Index, wanted: Collection[Digest]) -> list[_PackRange]:
    """Return the parts of packs that hold contents, near ones joined."""
    frames: dict[int, set[int]] = defaultdict(set)
    by_digest = index.by_digest
    for digest in wanted:
        for span in by_digest[digest].spans:
            frames[span.pack].add(span.frame)
    found: list[_PackRange] = []
    for pack in sorted(frames):
        for number in sorted(frames[pack]):
            frame = index.packs[pack].frames[number]
            last = found[-1] if found else None
            if last and last.pack == pack and frame.offset - (last.start + last.size) <= _GAP:
                size = frame.offset + frame.packed - last.start
                found[-1] = last._replace(size=size, frames=(*last.frames, (number, frame)))
            else:
                found.append(_PackRange(pack, frame.offset, frame.packed, ((number, frame),)))
    return found


def _by_ranges(
    reader: FeedReader,
    index: Index,
    wanted: set[Digest],
    target_of: TargetOf,
    listen: Listener,
) -> None:
    by_digest = index.by_digest
    places: dict[tuple[int, int], list[tuple[Digest, int, Span]]] = defaultdict(list)
    for digest in sorted(wanted):
        at = 0
        for span in by_digest[digest].spans:
            places[span.pack, span.frame].append((digest, at, span))
            at += span.size
    parts = {digest: f"{target_of(digest)}.part" for digest in wanted}
    ranges = _ranges(index, wanted)
    reader.will_read([Range(_pack(index, each.pack), each.start, each.size) for each in ranges])
    arriving = _Arriving(listen, len(ranges), sum(each.size for each in ranges))
    try:
        for part in parts.values():
            open(part, "wb").close()
        for each in ranges:
            for number, content in _frames(reader, index, each, arriving):
                for digest, at, span in places[each.pack, number]:
                    with open(parts[digest], "r+b") as file:
                        file.seek(at)
                        file.write(content[span.offset : span.offset + span.size])
        for digest, part in parts.items():
            if hash_file(part) != digest:
                raise FeedFault(f"the feed's {by_digest[digest].path} is not what its index says")
            os.replace(part, target_of(digest))
    finally:
        for part in parts.values():
            with suppress(FileNotFoundError):
                os.unlink(part)


def _frames(
    reader: FeedReader, index: Index, wanted: _PackRange, arriving: _Arriving
) -> Iterator[tuple[int, bytes]]:
    """Yield the frames of a range, unpacked, by number: one at a time in memory."""
    name = _pack(index, wanted.pack)
    pieces = reader.stream(name, wanted.start, wanted.size)
    buffer = bytearray()
    at = wanted.start
    for number, frame in wanted.frames:
        end = frame.offset + frame.packed
        while at + len(buffer) < end:
            piece = next(pieces, b"")
            if not piece:
                raise FeedFault(f"the feed's {name} is cut off")
            arriving.add(len(piece))
            buffer += piece
        packed = bytes(buffer[frame.offset - at : end - at])
        del buffer[: end - at]
        at = end
        content = unpack_text(packed, most=frame.size)
        if len(content) != frame.size:
            raise FeedFault(f"the feed's {name} is damaged")
        yield number, content
