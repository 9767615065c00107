"""The lines of a journal: each carries a check of its own, so that what is damaged can be told.

A line is 16 hexadecimal digits, a space and a JSON text. The digits are the beginning of the BLAKE3 hash of
the line's number and its text: a line that was changed or moved fails it.
"""

from __future__ import annotations

import json
from typing import Any, NamedTuple

from rellum.core.hashing import hash_bytes

RESERVE = b" " * 63 + b"\n"
"""Blanks after ``ready``, over which ``undo`` is written: a full disk cannot refuse that."""

UNDO = b"undo\n"
_CHECK_DIGITS = 16

Record = dict[str, Any]


class Lines(NamedTuple):
    """What a journal holds. ``records``: one for each whole line, None where the line fails its check.

    ``ends`` is where each line ends, in bytes; ``rest`` is what follows the last line.
    """

    content: bytes
    records: tuple[Record | None, ...]
    ends: tuple[int, ...]
    rest: bytes


def line_of(number: int, record: object) -> bytes:
    """Return a record as the line of that number, counted from 0."""
    # Escapes keep every name that the folder can hold, whole UTF-8 or not.
    text = json.dumps(record, separators=(",", ":")).encode("ascii")
    return b"%s %s\n" % (_check(number, text), text)


def read_lines(content: bytes) -> Lines:
    """Return the lines up to and with ``ready``, and what follows."""
    records: list[Record | None] = []
    ends: list[int] = []
    start = 0
    while (end := content.find(b"\n", start)) >= 0:
        records.append(_record(len(records), content[start:end]))
        start = end + 1
        ends.append(start)
        if records[-1] and "ready" in records[-1]:
            break
    return Lines(content, tuple(records), tuple(ends), content[start:])


def _record(number: int, line: bytes) -> Record | None:
    check, _, text = line.partition(b" ")
    if check != _check(number, text):
        return None
    record = json.loads(text)  # what passes its check is as it was written
    return record if isinstance(record, dict) else None


def _check(number: int, text: bytes) -> bytes:
    return hash_bytes(b"%d %s" % (number, text))[:_CHECK_DIGITS].encode("ascii")
