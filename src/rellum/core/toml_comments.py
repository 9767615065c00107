"""Comments stay above the table that they stood above, where a key was added to the table before it.

The comment above ``[hold]`` is, to an editor of TOML, the end of the table before; a new key of that table
would come between the two.
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from typing import Final

_LONGEST: Final = 2_000
"""In so many lines at most it is looked for what was added: it can take as many steps as their square."""


def comments_in_place(before: str, after: str) -> str:
    """Return a text of TOML after an edit, new keys moved up over the comment of the table that follows.

    What the text says stays the same.
    """
    old, new = before.splitlines(keepends=True), after.splitlines(keepends=True)
    for start, end in sorted(_added(old, new), reverse=True):
        if end == len(new) or not new[end].lstrip().startswith("["):
            continue
        first = start
        while first and new[first - 1].lstrip().startswith("#"):
            first -= 1
        if first == start:
            continue  # no comment is between
        while first and not new[first - 1].strip():
            first -= 1
        if first:
            new[first:end] = new[start:end] + new[first:start]
    text = "".join(new)
    return text if text == after or _say_the_same(text, after) else after


def _say_the_same(text: str, other: str) -> bool:
    """Whether two texts say the same; within a text of several lines, what looks like a comment is none."""
    try:
        return tomllib.loads(text) == tomllib.loads(other)
    except (ValueError, RecursionError):
        return False


def _added(old: list[str], new: list[str]) -> Iterator[tuple[int, int]]:
    """Yield where lines were added: the first, and the one after the last."""
    from difflib import SequenceMatcher

    head = 0
    while head < min(len(old), len(new)) and old[head] == new[head]:
        head += 1
    tail = 0
    while tail < min(len(old), len(new)) - head and old[-1 - tail] == new[-1 - tail]:
        tail += 1
    if len(new) - tail - head > _LONGEST:
        return
    matcher = SequenceMatcher(
        None, old[head : len(old) - tail], new[head : len(new) - tail], autojunk=False
    )
    for what, _, _, start, end in matcher.get_opcodes():
        if what == "insert":
            yield head + start, head + end
