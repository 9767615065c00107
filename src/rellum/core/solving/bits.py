"""The statements of a reason, as the bits of a number."""

from __future__ import annotations

from collections.abc import Iterator


def bits_of(mask: int) -> Iterator[int]:
    """Yield the numbers of the bits of a mask, ascending."""
    while mask:
        low = mask & -mask
        yield low.bit_length() - 1
        mask ^= low
