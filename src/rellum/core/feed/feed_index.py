"""The index of one version of a feed: which files it has, and where in the packs their bytes are.

It comes from outside: every number and name in it is checked before anything is done by it. Its text is
canonical (RFC 8785's order of keys, no blanks), so that the same version always has the same bytes.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from typing import Any, Final, NamedTuple

from rellum.core.errors import UserError
from rellum.core.hashing import Digest
from rellum.core.values.paths import fault_in_relative
from rellum.core.zstandard import zstd

FORMAT: Final = 1
MOST_FRAME_BYTES: Final = 32 << 20
"""What one frame holds at most, unpacked: it is unpacked in memory."""
MOST_PACK_BYTES: Final = 64 << 20
MOST_INDEX_BYTES: Final = 256 << 20
_MOST_FILES: Final = 2_000_000
_MOST_BYTES: Final = 1 << 46
_DIGEST: Final = re.compile(r"[0-9a-f]{64}")
_LEVEL: Final = 19


class FeedFault(UserError):
    """A feed is not what it should be: damaged, cut off, of a newer Rellum, or made to do harm."""

    code = "feed-fault"


class Frame(NamedTuple):
    """A frame of a pack: where its packed bytes begin there, how many they are, and how many unpacked."""

    offset: int
    packed: int
    size: int


class Pack(NamedTuple):
    """A pack: the BLAKE3 hash of its bytes, which is its name, and its frames in order."""

    name: Digest
    frames: tuple[Frame, ...]

    @property
    def size(self) -> int:
        """Its size in bytes."""
        return self.frames[-1].offset + self.frames[-1].packed if self.frames else 0


class Span(NamedTuple):
    """A piece of a file: the pack and the frame it is in, by number, and where in the unpacked frame."""

    pack: int
    frame: int
    offset: int
    size: int


class FeedFile(NamedTuple):
    """A file of a version: its path there, its content, and the spans that it is made of, in order."""

    path: str
    size: int
    digest: Digest
    spans: tuple[Span, ...]


class Index(NamedTuple):
    """A version of a feed. ``facts`` are what people are told: the pack, the game, words, the moment."""

    version: int
    facts: Mapping[str, str]
    packs: tuple[Pack, ...]
    files: tuple[FeedFile, ...]

    @property
    def by_path(self) -> dict[str, FeedFile]:
        """The files by their paths."""
        return {each.path: each for each in self.files}

    @property
    def by_digest(self) -> dict[Digest, FeedFile]:
        """The files by their content."""
        return {each.digest: each for each in self.files}


def index_text(index: Index) -> bytes:
    """Return the canonical text of an index."""
    document = {
        "facts": dict(index.facts),
        "files": [
            [each.path, each.size, each.digest, [part for span in each.spans for part in span]]
            for each in sorted(index.files)
        ],
        "format": FORMAT,
        "packs": [
            [each.name, [part for frame in each.frames for part in (frame.packed, frame.size)]]
            for each in index.packs
        ],
        "version": index.version,
    }
    text = json.dumps(document, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return text.encode("utf-8")


def pack_text(text: bytes, before: bytes = b"") -> bytes:
    """Return a text packed, as a difference from another one where there is one."""
    return bytes(_packed(text, before, _LEVEL if len(text) < 4 << 20 else 9))


def _packed(text: bytes, before: bytes, level: int) -> Any:
    library = zstd()
    parameters = library.CompressionParameter
    options = {int(parameters.compression_level): level, int(parameters.checksum_flag): 1}
    if len(before) < 8:
        return library.compress(text, options=options)
    options[int(parameters.window_log)] = min(30, max(17, (len(before) + len(text)).bit_length()))
    options[int(parameters.enable_long_distance_matching)] = 1
    return library.compress(
        text, options=options, zstd_dict=library.ZstdDict(before, is_raw=True).as_prefix
    )


def unpack_text(packed: bytes, before: bytes = b"", most: int = MOST_INDEX_BYTES) -> bytes:
    """Undo ``pack_text``. Raises FeedFault where that is no packed text, or longer than ``most`` bytes."""
    library = zstd()
    prefix = library.ZstdDict(before, is_raw=True).as_prefix if len(before) >= 8 else None
    options = {int(library.DecompressionParameter.window_log_max): 30}
    try:
        decoder = library.ZstdDecompressor(zstd_dict=prefix, options=options)
        text: bytes = decoder.decompress(packed, most + 1)
    except (library.ZstdError, ValueError) as error:
        raise FeedFault(f"a part of the feed cannot be unpacked ({error})") from error
    if len(text) > most or not decoder.eof or decoder.unused_data:
        raise FeedFault("a part of the feed is cut off, or longer than it may be")
    return text


def read_index(text: bytes, version: int) -> Index:
    """Read an index and check all of it. Raises FeedFault."""
    try:
        document = json.loads(text)
        if document["format"] != FORMAT:
            raise FeedFault(
                f"the feed has the format {document['format']!r}, and this Rellum reads {FORMAT}",
                hint="Install a newer Rellum.",
            )
        index = Index(
            version=_number(document["version"], 1, 1 << 40),
            facts={str(key)[:100]: str(value)[:4000] for key, value in document["facts"].items()},
            packs=tuple(_read_pack(*each) for each in document["packs"]),
            files=tuple(_read_file(*each) for each in document["files"]),
        )
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        raise FeedFault(f"the feed's index is damaged ({error})") from error
    if index.version != version:
        raise FeedFault(f"the index of version {version} calls itself {index.version}")
    _check(index)
    return index


def _number(value: object, least: int, most: int) -> int:
    if type(value) is not int or not least <= value <= most:
        raise ValueError(f"{value!r} is no number from {least} to {most}")
    return value


def _digest(value: object) -> Digest:
    if not isinstance(value, str) or not _DIGEST.fullmatch(value):
        raise ValueError(f"{value!r} is no hash")
    return Digest(value)


def _read_pack(name: object, numbers: list[object]) -> Pack:
    frames = []
    offset = 0
    for packed, size in zip(numbers[0::2], numbers[1::2], strict=True):
        frame = Frame(
            offset, _number(packed, 1, MOST_PACK_BYTES), _number(size, 0, MOST_FRAME_BYTES)
        )
        frames.append(frame)
        offset += frame.packed
    return Pack(_digest(name), tuple(frames))


def _read_file(path: object, size: object, digest: object, numbers: list[object]) -> FeedFile:
    if not isinstance(path, str) or fault_in_relative(path):
        raise ValueError(f"{path!r} is no path that every system can hold")
    parts = [_number(each, 0, _MOST_BYTES) for each in numbers]
    fours = zip(parts[0::4], parts[1::4], parts[2::4], parts[3::4], strict=True)
    spans = tuple(Span(*four) for four in fours)
    return FeedFile(path, _number(size, 0, _MOST_BYTES), _digest(digest), spans)


def _check(index: Index) -> None:
    """Check that spans lie in frames, add up, and that no path is there twice. Raises FeedFault."""
    if len(index.files) > _MOST_FILES:
        raise FeedFault(f"the feed has {len(index.files):,} files, and may have {_MOST_FILES:,}")
    if len({each.path.casefold() for each in index.files}) != len(index.files):
        raise FeedFault("the feed has two files of one name")
    for fault in _faults(index):
        raise FeedFault(f"the feed's index is damaged: {fault}")


def _faults(index: Index) -> Iterator[str]:
    for file in index.files:
        if sum(span.size for span in file.spans) != file.size:
            yield f"{file.path}: its parts do not add up"
        for span in file.spans:
            if span.pack >= len(index.packs) or span.frame >= len(index.packs[span.pack].frames):
                yield f"{file.path}: it is in a pack that is not there"
            elif span.offset + span.size > index.packs[span.pack].frames[span.frame].size:
                yield f"{file.path}: it lies outside its frame"
