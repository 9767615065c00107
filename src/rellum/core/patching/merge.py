"""Three-way merge of settings: what a release brought before, what the user has, what comes now.

By key where the form is known, so that the user's comments and order stay; by line otherwise. The
well-known package for merging lines has a licence that this project cannot pass on, so that the
few lines it takes over the standard library's matcher are here.
"""

from __future__ import annotations

import difflib
import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

from rellum.core.patching.keys import edit_keys, key_of, read_keys, without_emptied_sections
from rellum.core.patching.model import PatchFault, SettingsForm

Side = Literal["mine", "theirs"]
KeyPath = tuple[str, ...]
_GONE = object()


@dataclass(frozen=True, slots=True, kw_only=True)
class Conflict:
    """What both changed, differently; an empty text where one of them took it out."""

    key: str
    mine: str
    theirs: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Merged:
    """The content that a merge gives, and what had to be decided."""

    content: bytes
    conflicts: tuple[Conflict, ...]


def merge_settings(
    base: bytes | None,
    mine: bytes,
    theirs: bytes,
    form: SettingsForm | None,
    prefer: Side,
    name: str,
) -> Merged:
    """Return ``mine`` with what changed from ``base`` to ``theirs``. Raises PatchFault.

    ``prefer`` decides conflicts. Without a base, what is only in ``theirs`` comes, and what differs
    is a conflict. ``name`` is the file, as messages show it.
    """
    if form is not None:
        before, now, new = (read_keys(each, form, name) for each in (base or b"", mine, theirs))
        if before is not None and now is not None and new is not None:
            merged = _by_key(mine, form, (before, now, new), prefer, name)
            if form not in ("ini", "ini-exact") or merged.content == mine:
                return merged
            content = without_emptied_sections(merged.content, mine, theirs, form, name)
            return replace(merged, content=content)
    return _by_line(base, mine, theirs, prefer, name)


def _by_key(
    content: bytes,
    form: SettingsForm,
    tables: tuple[Mapping[KeyPath, Any], Mapping[KeyPath, Any], Mapping[KeyPath, Any]],
    prefer: Side,
    name: str,
) -> Merged:
    """Merge by key; ``tables`` are what all three have: the base, mine, theirs."""
    base, mine, theirs = tables
    spelt = {
        key_of(key, form): key for key in (*base, *theirs, *mine)
    }  # as the user has it, if at all
    compared = [{key_of(key, form): value for key, value in each.items()} for each in tables]
    changes: dict[KeyPath, Any] = {}
    conflicts = []
    for same in dict.fromkeys((*compared[2], *compared[0])):
        key = spelt[same]
        before, now, new = (each.get(same, _GONE) for each in compared)
        if new in (before, now):
            continue
        if now != before:
            conflicts.append(Conflict(key=".".join(key), mine=_shown(now), theirs=_shown(new)))
            if prefer == "mine":
                continue
        changes[key] = None if new is _GONE else new
    settings = tuple(changes.items())
    merged = edit_keys(content, form, settings, name) if settings else content
    return Merged(content=merged, conflicts=tuple(conflicts))


def _shown(value: Any) -> str:
    if value is _GONE:
        return ""
    return value if isinstance(value, str) else json.dumps(value, default=str)


def _by_line(base: bytes | None, mine: bytes, theirs: bytes, prefer: Side, name: str) -> Merged:
    if base is None:
        conflict = Conflict(key="the whole file", mine=_size(mine), theirs=_size(theirs))
        chosen = mine if prefer == "mine" else theirs
        return Merged(content=chosen, conflicts=() if mine == theirs else (conflict,))
    lines = [each.splitlines(keepends=True) for each in (base, mine, theirs)]
    if max(map(len, lines)) > _MOST_LINES:
        raise PatchFault(f"{name}: has more than {_MOST_LINES:,} lines, too many to merge by line")
    made: list[bytes] = []
    conflicts = []
    for at, old, ours, new in _regions(*lines):
        if ours == new or new == old:
            made += ours
        elif ours == old:
            made += new
        else:
            texts = (b"".join(each).decode("utf-8", "replace").strip() for each in (ours, new))
            conflicts.append(Conflict(key=f"line {at + 1}", mine=next(texts), theirs=next(texts)))
            made += ours if prefer == "mine" else new
    return Merged(content=b"".join(made), conflicts=tuple(conflicts))


_MOST_LINES = 20_000


def _size(content: bytes) -> str:
    return f"{len(content):,} bytes"


Lines = Sequence[bytes]


def _regions(base: Lines, mine: Lines, theirs: Lines) -> Iterator[tuple[int, Lines, Lines, Lines]]:
    """Yield the stretches between and in which all three agree: where in mine, and the three texts."""
    at_base = at_mine = at_theirs = 0
    for in_base, in_mine, in_theirs, length in _agreed(base, mine, theirs):
        yield (
            at_mine,
            base[at_base:in_base],
            mine[at_mine:in_mine],
            theirs[at_theirs:in_theirs],
        )
        same = base[in_base : in_base + length]
        yield in_mine, same, same, same
        at_base, at_mine, at_theirs = in_base + length, in_mine + length, in_theirs + length


def _agreed(base: Lines, mine: Lines, theirs: Lines) -> list[tuple[int, int, int, int]]:
    """Return the stretches of lines that all three have: where in each, and how long; an empty last."""
    first = difflib.SequenceMatcher(None, base, mine, autojunk=False).get_matching_blocks()
    second = difflib.SequenceMatcher(None, base, theirs, autojunk=False).get_matching_blocks()
    found = []
    one = two = 0
    while one < len(first) and two < len(second):
        begin = max(first[one].a, second[two].a)
        ends = (first[one].a + first[one].size, second[two].a + second[two].size)
        if begin < min(ends):
            in_mine = first[one].b + begin - first[one].a
            in_theirs = second[two].b + begin - second[two].a
            found.append((begin, in_mine, in_theirs, min(ends) - begin))
        if ends[0] < ends[1]:
            one += 1
        else:
            two += 1
    return [*found, (len(base), len(mine), len(theirs), 0)]
