"""Archives in several parts: which files are parts, by their names, and which parts are missing."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from rellum.core.archives.seven_zip import declared_size
from rellum.core.archives.zip_list import disk_number
from rellum.core.joined_file import JoinedFile

PartKind = Literal["numbered", "split-zip", "rar"]

_NUMBERED = re.compile(r"^(?P<stem>.+)\.(?P<number>\d{3,5})$")
_SPLIT_ZIP = re.compile(r"^(?P<stem>.+)\.z(?P<number>\d{2,5})$", re.IGNORECASE)
_LAST_ZIP = re.compile(r"^(?P<stem>.+)\.zip$", re.IGNORECASE)
_RAR = re.compile(r"^(?P<stem>.+)\.(part(?P<number>\d+)\.rar|r(?P<old>\d{2,}))$", re.IGNORECASE)


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """One part of an archive. Parts of one archive share ``stem`` and ``kind``.

    ``number`` counts from 1, but for sets that begin with ``.000``. ``is_last`` is only known of the
    ``.zip`` that ends a split zip.
    """

    kind: PartKind
    stem: str
    number: int
    width: int
    is_last: bool = False

    @property
    def key(self) -> str:
        """What all parts of the archive have in common, wherever they came from."""
        return f"{self.kind}:{self.stem.casefold()}"


def part_by_name(name: str) -> Part | None:
    """Return which part of what a file is, by its name alone; None where it is none.

    Only its content shows that a ``.zip`` ends a split zip: see ``part_of``.
    """
    for kind, pattern in (("rar", _RAR), ("split-zip", _SPLIT_ZIP), ("numbered", _NUMBERED)):
        found = pattern.match(name)
        if found:
            digits = found["number"] or found["old"]
            return Part(
                kind=kind,  # type: ignore[arg-type]
                stem=found["stem"],
                number=int(digits),
                width=len(digits),
            )
    return None


def part_of(path: str, name: str = "") -> Part | None:
    """Return which part of what the file at ``path`` is. Raises OSError."""
    name = name or os.path.basename(path)
    if found := part_by_name(name):
        return found
    last = _LAST_ZIP.match(name)
    number = disk_number(path) if last else 0
    if last is None or not 0 < number < 0xFFFF:
        return None
    return Part(kind="split-zip", stem=last["stem"], number=number + 1, width=2, is_last=True)


def name_of(part: Part, number: int, last: int | None) -> str:
    """Return the name that part ``number`` of the same archive has."""
    if part.kind == "numbered":
        return f"{part.stem}.{number:0{part.width}}"
    if number == last:
        return f"{part.stem}.zip"
    return f"{part.stem}.z{number:02}"


@dataclass(frozen=True, slots=True, kw_only=True)
class PartSet:
    """How far an archive in parts is here. ``total`` is None where nothing tells how many there are.

    ``ordered`` are the paths in order; ``missing`` the names that are known to be missing.
    """

    stem: str
    ordered: tuple[str, ...]
    total: int | None
    missing: tuple[str, ...]

    @property
    def progress(self) -> str:
        """How far it is, in words: ``10 of 12 parts; missing: x.7z.003, x.7z.011``."""
        count = len(self.ordered)
        whole = f"{count} of {self.total} parts" if self.total else f"{count} parts so far"
        if not self.missing:
            return whole
        shown = ", ".join(self.missing[:6]) + (" …" if len(self.missing) > 6 else "")
        return f"{whole}; missing: {shown}"


def gather(found: Iterable[tuple[Part, str]], named: Iterable[str] = ()) -> PartSet:
    """Put the parts of one archive in order and tell what is missing. Raises OSError.

    ``found`` are parts with their paths. ``named`` are the names of all its parts where a card tells
    them; else the archive's own first or last part does, where it can.
    """
    by_number: dict[int, tuple[Part, str]] = {}
    for each, path in found:
        by_number.setdefault(each.number, (each, path))
    a_part = next(iter(by_number.values()))[0]
    from_cards = [part for name in named if (part := part_by_name(name)) and part.key == a_part.key]
    zero = 0 if 0 in by_number and a_part.kind == "numbered" else 1
    last = _last_number(by_number, zero)
    if last is None and from_cards:
        last = max(part.number for part in from_cards) + (a_part.kind == "split-zip")
    highest = max([last or 0, *by_number])
    missing = [
        name_of(a_part, number, last)
        for number in range(zero, highest + 1)
        if number not in by_number
    ]
    if a_part.kind == "split-zip" and last is None:
        missing.append(f"{a_part.stem}.zip")
    return PartSet(
        stem=a_part.stem,
        ordered=tuple(by_number[number][1] for number in sorted(by_number)),
        total=None if last is None else last - zero + 1,
        missing=tuple(missing),
    )


def _last_number(by_number: dict[int, tuple[Part, str]], zero: int) -> int | None:
    """Return the number of the last part, by what the parts that are here say themselves."""
    for number, (each, _) in by_number.items():
        if each.is_last:
            return number
    first = by_number.get(zero)
    if first is None or first[0].kind != "numbered":
        return None
    with JoinedFile([first[1]]) as file:
        head = file.read_at(0, 32)
        whole = declared_size(head) if head.startswith(b"7z\xbc\xaf\x27\x1c") else 0
        return zero - 1 + -(-whole // file.size) if whole and file.size else None
