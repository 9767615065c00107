"""A game's own load-order file: our entries in our order, in the places ours had; others stay."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Sequence, Set
from typing import Any

from rellum.core.patching.json_patch import read_json, write_json
from rellum.core.patching.model import PatchFault

Fold = Callable[[str], str]
_SECTION = re.compile(r"\s*\[([^\]]*)\]")
_KEY = re.compile(r"\s*([^=;#\[]*?)\s*=")


def reorder(
    entries: Sequence[Any], ours: Callable[[Any], bool], wanted: Iterable[Any]
) -> list[Any]:
    """Return entries with ours replaced in their places by ``wanted``; what is more comes last."""
    coming = iter(wanted)
    made: list[Any] = []
    for entry in entries:
        if not ours(entry):
            made.append(entry)
        elif (follows := next(coming, None)) is not None:
            made.append(follows)
    return [*made, *coming]


def order_lines(content: bytes, before: Set[str], wanted: Sequence[str], fold: Fold) -> bytes:
    """Return a file with an entry a line; empty lines and comments (``#``, ``;``) stay."""
    text, end, mark = _decoded(content)
    known = _known(before, wanted, fold)
    lines = text.splitlines()
    made = reorder(lines, lambda line: fold(line.strip()) in known, wanted)
    return mark + "".join(line + end for line in made).encode("utf-8", "surrogateescape")


def order_json(
    content: bytes,
    key: Sequence[str],
    before: Set[str],
    wanted: Sequence[str],
    fold: Fold,
    name: str,
) -> bytes:
    """Return a JSON file with entries in the list at ``key``. Raises PatchFault."""
    document = read_json(content, name) if content.strip() else {}
    table = document
    for part in key[:-1]:
        table = table.setdefault(part, {}) if isinstance(table, dict) else None
    entries = table.setdefault(key[-1], []) if isinstance(table, dict) else None
    if not isinstance(entries, list):
        raise PatchFault(f"{name}: has no list at {'.'.join(key)!r}, where the sheet says it is")
    known = _known(before, wanted, fold)
    entries[:] = reorder(
        entries, lambda each: isinstance(each, str) and fold(each) in known, wanted
    )
    if not content.strip():
        return json.dumps(document, indent=2, ensure_ascii=False).encode("utf-8") + b"\n"
    return write_json(document, content)


def order_ini(
    content: bytes, section: str, value: str, before: Set[str], wanted: Sequence[str], fold: Fold
) -> bytes:
    """Return an INI file with entries as the keys of a section; a key of ours keeps its value."""
    text, end, mark = _decoded(content)
    known = _known(before, wanted, fold)
    lines = text.splitlines()
    begin, close = _section(lines, section)
    values = {fold(found[1]): line for line in lines[begin:close] if (found := _KEY.match(line))}

    def is_ours(line: str) -> bool:
        found = _KEY.match(line)
        return found is not None and fold(found[1]) in known

    rows = [values.get(fold(each), f"{each} = {value}") for each in wanted]
    inside = reorder(lines[begin:close], is_ours, rows)
    if begin > len(lines):
        inside = [*([""] if lines else []), f"[{section}]", *rows] if rows else []
    made = [*lines[:begin], *inside, *lines[close:]]
    return mark + "".join(line + end for line in made).encode("utf-8", "surrogateescape")


def _section(lines: Sequence[str], section: str) -> tuple[int, int]:
    """Return where a section's lines begin and end, without the empty ones at its end."""
    begin, close = len(lines) + 1, len(lines) + 1
    for index, line in enumerate(lines):
        found = _SECTION.match(line)
        if found and begin <= index:
            close = index
            break
        if found and found[1].strip().casefold() == section.casefold():
            begin, close = index + 1, len(lines)
    while begin < close <= len(lines) and not lines[close - 1].strip():
        close -= 1
    return begin, close


def _known(before: Set[str], wanted: Sequence[str], fold: Fold) -> set[str]:
    return {fold(each) for each in (*before, *wanted)}


def _decoded(content: bytes) -> tuple[str, str, bytes]:
    """Return a text, its line end, and its byte order mark. Bytes that are no UTF-8 are kept."""
    mark = b"\xef\xbb\xbf" if content.startswith(b"\xef\xbb\xbf") else b""
    text = content[len(mark) :].decode("utf-8", "surrogateescape")
    return text, "\r\n" if "\r\n" in text else "\n", mark
