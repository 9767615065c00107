"""Hashes that can be said: on the telephone, in a chat."""

from typing import Final

_SIGNS: Final = "0123456789abcdefghjkmnpqrstvwxyz"
"""Crockford's base 32: no letter that is taken for a digit or another letter."""


def sayable(digest: str) -> str:
    """Return the first 100 bits of a hash (hexadecimal), as five groups of four signs."""
    number = int(digest[:26], 16) >> 4
    signs = [_SIGNS[number >> shift & 31] for shift in range(95, -1, -5)]
    return "-".join("".join(signs[at : at + 4]) for at in range(0, 20, 4))
