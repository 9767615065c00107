"""VCDIFF (RFC 3284) with the default code table, as real encoders write it.

Two widely used extensions are read: a header for the application (passed over) and an Adler-32 of
each window (checked). Own code tables and secondary compressors, which the RFC leaves to others, are
refused.
"""

from __future__ import annotations

import os
import zlib
from collections.abc import Iterator
from typing import BinaryIO, Final, NoReturn

from rellum.core.patching.mapped import Content, let_go
from rellum.core.patching.model import PatchFault

_MAGIC: Final = b"\xd6\xc3\xc4"
_NOOP, _ADD, _RUN, _COPY = range(4)
_NEAR, _SAME = 4, 3

MOST_WINDOW_BYTES = 1 << 30
"""A window is made in memory; real encoders' windows have some megabytes."""

Instruction = tuple[int, int, int]
"""Kind, size (0: it follows), and the mode of a copy's address."""


def _default_code_table() -> tuple[tuple[Instruction, Instruction], ...]:
    """Return the 256 pairs of instructions of RFC 3284, 5.6."""
    none = (_NOOP, 0, 0)
    table: list[tuple[Instruction, Instruction]] = [((_RUN, 0, 0), none)]
    table += [((_ADD, size, 0), none) for size in range(18)]
    for mode in range(9):
        table += [((_COPY, size, mode), none) for size in (0, *range(4, 19))]
    for mode in range(6):
        table += [
            ((_ADD, add, 0), (_COPY, copy, mode)) for add in range(1, 5) for copy in range(4, 7)
        ]
    for mode in range(6, 9):
        table += [((_ADD, add, 0), (_COPY, 4, mode)) for add in range(1, 5)]
    table += [((_COPY, 4, mode), (_ADD, 1, 0)) for mode in range(9)]
    return tuple(table)


_TABLE: Final = _default_code_table()


def apply_vcdiff(
    source: Content, delta: Content, out: BinaryIO, name: str, most_bytes: int
) -> None:
    """Write what a delta makes of a file. Raises PatchFault; ``name`` stands for the delta.

    ``out`` is empty, and is read again where the delta says so. ``most_bytes`` bounds what may come
    out. No more than a window and what it copies from is in memory where the contents are mapped.
    """
    reader = _Reader(delta, name)
    if reader.take(3) != _MAGIC:
        reader.fail("is no VCDIFF (RFC 3284)")
    if version := reader.byte():
        reader.fail(f"is VCDIFF of version {version}, and only version 0 is known")
    flags = reader.byte()
    if flags & 1:
        reader.fail(
            f"names a secondary compressor (number {reader.byte()}), which RFC 3284 does not define; "
            "make it without one"
        )
    if flags & 2:
        reader.fail("brings a code table of its own; only the default one is read")
    if flags & 4:
        reader.take(reader.number())
    if flags & ~7:
        reader.fail(f"has flags in its header that are not known ({flags:#x})")
    written = 0
    while not reader.ended:
        made = _window(reader, source, out, written, min(most_bytes - written, MOST_WINDOW_BYTES))
        out.write(made)
        written += len(made)
        let_go(source)


def _window(
    reader: _Reader, source: Content, out: BinaryIO, written: int, most_bytes: int
) -> bytearray:
    """Return what the next window makes; ``out`` has the ``written`` bytes of those before it."""
    flags = reader.byte()
    if flags & ~7 or flags & 3 == 3:
        reader.fail(f"has a window with flags that are not known ({flags:#x})")
    segment = memoryview(b"")
    if flags & 3:
        size, at = reader.number(), reader.number()
        known = len(source) if flags & 1 else written
        if at + size > known:
            what = "the file that it goes over" if flags & 1 else "what it made so far"
            reader.fail(
                f"wants bytes {at:,} to {at + size:,} of {what}, which has {known:,}: it is for "
                "another file"
            )
        segment = _segment(source if flags & 1 else _read_back(out, at, size), at, size)
    try:
        return _fill_window(reader, segment, flags, most_bytes)
    finally:
        segment.release()


def _segment(content: Content, at: int, size: int) -> memoryview:
    """Return a part of a file without a copy; of a part that was read back, all of it."""
    whole = memoryview(content)
    if len(whole) == size:
        return whole
    part = whole[at : at + size]
    whole.release()
    return part


def _read_back(out: BinaryIO, at: int, size: int) -> bytes:
    out.seek(at)
    content = out.read(size)
    out.seek(0, os.SEEK_END)
    return content


def _fill_window(reader: _Reader, segment: memoryview, flags: int, most_bytes: int) -> bytearray:
    reader.number()  # the length of what follows, which its parts tell too
    size = reader.number()
    if size > most_bytes:
        reader.fail("would make a larger file than is allowed")
    if reader.byte():
        reader.fail("has a window packed by a secondary compressor; make it without one")
    lengths = [reader.number() for _ in range(3)]
    checksum = int.from_bytes(reader.take(4), "big") if flags & 4 else None
    data, codes, addresses = (_Reader(reader.take(each), reader.name) for each in lengths)
    made = _run(segment, data, codes, addresses, size)
    if checksum is not None and zlib.adler32(made) != checksum:
        reader.fail("gives a window with another checksum than it says: it is for another file")
    return made


def _run(
    segment: memoryview, data: _Reader, codes: _Reader, addresses: _Reader, size: int
) -> bytearray:
    """Carry out a window's instructions. Raises PatchFault."""
    made = bytearray()
    cache = _AddressCache(addresses)
    begin = len(segment)
    for kind, count, mode in _instructions(codes):
        if len(made) + count > size:
            codes.fail(f"has a window that makes more than the {size:,} bytes it says")
        if kind == _ADD:
            made += data.take(count)
        elif kind == _RUN:
            made += data.take(1) * count
        else:
            here = begin + len(made)
            at = cache.address(mode, here)
            if at < begin:
                made += segment[at : at + count]
                count -= min(count, begin - at)
                at = begin
            _copy_within(made, at - begin, count)
    if len(made) != size:
        codes.fail(f"has a window that makes {len(made):,} of the {size:,} bytes it says")
    if not data.ended or not addresses.ended:
        codes.fail("has a window with bytes that nothing uses")
    return made


def _copy_within(made: bytearray, at: int, count: int) -> None:
    """Append ``count`` bytes from ``at`` on; where they reach what is being written, they repeat."""
    while count > 0:
        piece = made[at : at + count]
        made += piece
        count -= len(piece)


def _instructions(codes: _Reader) -> Iterator[Instruction]:
    while not codes.ended:
        for kind, size, mode in _TABLE[codes.byte()]:
            if kind != _NOOP:
                yield kind, size or codes.number(), mode


class _AddressCache:
    """The addresses of copies; repeated ones are written short (RFC 3284, 5)."""

    def __init__(self, addresses: _Reader) -> None:
        self._addresses = addresses
        self._near = [0] * _NEAR
        self._next = 0
        self._same = [0] * (_SAME * 256)

    def address(self, mode: int, here: int) -> int:
        """Read the address of a copy. Raises PatchFault for one that is not before ``here``."""
        reader = self._addresses
        if mode == 0:
            at = reader.number()
        elif mode == 1:
            at = here - reader.number()
        elif mode < 2 + _NEAR:
            at = self._near[mode - 2] + reader.number()
        else:
            at = self._same[(mode - 2 - _NEAR) * 256 + reader.byte()]
        if not 0 <= at < here:
            reader.fail(f"copies from byte {at:,}, where only {here:,} are known")
        self._near[self._next] = at
        self._next = (self._next + 1) % _NEAR
        self._same[at % (_SAME * 256)] = at
        return at


class _Reader:
    """Reads bytes and numbers from a section."""

    def __init__(self, content: Content, name: str) -> None:
        self._content = content
        self._at = 0
        self.name = name

    @property
    def ended(self) -> bool:
        """Whether nothing is left."""
        return self._at >= len(self._content)

    def fail(self, words: str) -> NoReturn:
        """Raise what is wrong with the delta."""
        raise PatchFault(f"{self.name}: {words}")

    def take(self, count: int) -> bytes:
        """Return the next bytes. Raises PatchFault where there are not so many."""
        content = self._content[self._at : self._at + count]
        if len(content) < count:
            self.fail("is truncated")
        self._at += count
        return content

    def byte(self) -> int:
        """Return the next byte."""
        return self.take(1)[0]

    def number(self) -> int:
        """Return the next number: base 128, the highest digits first (RFC 3284, 2)."""
        value = 0
        for _ in range(10):
            digit = self.byte()
            value = value << 7 | digit & 0x7F
            if not digit & 0x80:
                return value
        raise PatchFault(f"{self.name}: has a number that is too large")
