"""Raw DEFLATE (RFC 1951) by the fastest inflater installed, in bounded memory."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterator
from typing import Any, Final

_accelerated: Any
try:
    from isal import isal_zlib as _accelerated
except ImportError:  # no build for this processor: the standard library does the same, slower
    _accelerated = zlib

PIECE_BYTES: Final = 1 << 20
WHOLE_BYTES: Final = 4 << 20
"""Members up to this size are inflated by one call."""

_RAW_WINDOW: Final = -15

ReadAt = Callable[[int, int], bytes]
"""Read ``count`` bytes at ``offset``: ``read_at(offset, count)``."""


class DeflateFault(ValueError):
    """The bytes are no DEFLATE stream, or hold more or less than was declared."""


def crc32(content: bytes, value: int = 0) -> int:
    """Return the CRC-32 of bytes, going on from ``value``."""
    return int(_accelerated.crc32(content, value))


def inflate(read_at: ReadAt, offset: int, packed_size: int, size: int) -> Iterator[bytes]:
    """Yield the content of a stream of ``packed_size`` bytes that must inflate to ``size`` bytes.

    Never yields more than ``size`` bytes in all. Raises DeflateFault.
    """
    decoder = _accelerated.decompressobj(_RAW_WINDOW)
    try:
        if size <= WHOLE_BYTES and packed_size <= WHOLE_BYTES:
            content = decoder.decompress(read_at(offset, packed_size), size + 1)
            _check_end(decoder, len(content), size)
            yield content
            return
        yield from _inflate_in_pieces(decoder, read_at, offset, packed_size, size)
    except (zlib.error, _accelerated.error) as error:
        raise DeflateFault(str(error)) from error


def _inflate_in_pieces(
    decoder: Any, read_at: ReadAt, offset: int, packed_size: int, size: int
) -> Iterator[bytes]:
    done = 0
    end = offset + packed_size
    while not decoder.eof:
        packed = decoder.unconsumed_tail
        if not packed:
            if offset >= end:
                break
            packed = read_at(offset, min(PIECE_BYTES // 4, end - offset))
            offset += len(packed)
        piece = decoder.decompress(packed, PIECE_BYTES)
        done += len(piece)
        if done > size:
            break
        if piece:
            yield piece
        elif offset >= end and not decoder.unconsumed_tail:
            break
    _check_end(decoder, done, size)


def _check_end(decoder: Any, done: int, size: int) -> None:
    if done > size:
        raise DeflateFault(f"it contains more than the {size} bytes it declares")
    if done < size:
        raise DeflateFault(f"it ends after {done} of {size} bytes")
    if not decoder.eof and size:
        # All bytes are there; what is missing can only be the end mark of the stream.
        decoder.decompress(b"", 1)
