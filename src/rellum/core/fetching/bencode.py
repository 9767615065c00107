"""Reading bencoded data (BEP 3) from outside: numbers, byte strings, lists, tables, nested within a limit."""

from __future__ import annotations

from typing import Any, Final

_MOST_DEPTH: Final = 40
_MOST_DIGITS: Final = 19


class NotBencode(ValueError):
    """Bytes are not bencoded data."""


def decode(content: bytes) -> Any:
    """Return what is encoded: int, bytes, list, or dict by bytes. Raises NotBencode."""
    value, end = _value(content, 0, 0)
    if end != len(content):
        raise NotBencode(f"something follows its end, at byte {end:,}")
    return value


def _value(content: bytes, at: int, depth: int) -> tuple[Any, int]:
    if depth > _MOST_DEPTH:
        raise NotBencode(f"it is nested more than {_MOST_DEPTH} deep")
    kind = content[at : at + 1]
    if kind == b"i":
        return _number(content, at + 1, b"e")
    if kind == b"l":
        return _list(content, at + 1, depth)
    if kind == b"d":
        found, end = _list(content, at + 1, depth)
        if len(found) % 2 or not all(isinstance(key, bytes) for key in found[::2]):
            raise NotBencode(f"a table is no table, at byte {at:,}")
        return dict(zip(found[::2], found[1::2], strict=True)), end
    if kind.isdigit():
        size, start = _number(content, at, b":")
        if size < 0 or start + size > len(content):
            raise NotBencode(f"it is cut off, at byte {at:,}")
        return content[start : start + size], start + size
    raise NotBencode(f"it is cut off, or no such data, at byte {at:,}")


def _list(content: bytes, at: int, depth: int) -> tuple[list[Any], int]:
    found = []
    while content[at : at + 1] != b"e":
        value, at = _value(content, at, depth + 1)
        found.append(value)
    return found, at + 1


def _number(content: bytes, at: int, last: bytes) -> tuple[int, int]:
    end = content.find(last, at, at + _MOST_DIGITS + 2)
    digits = content[at:end].removeprefix(b"-") if end >= 0 else b""
    if not digits.isdigit():
        raise NotBencode(f"a number is no number, at byte {at:,}")
    return int(content[at:end]), end + 1
