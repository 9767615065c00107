"""Whether two people have the same: short texts over a line-up, and over what lies in the game.

Each has 100 bits of a BLAKE3 hash, so short that it can be read out.
"""

from __future__ import annotations

from collections.abc import Container, Iterable
from dataclasses import replace
from typing import NamedTuple

from rellum.core.hashing import hash_bytes
from rellum.core.pack.lock_file import LockFile
from rellum.core.pack.state import State
from rellum.core.values.ids import ModId, ReleaseName
from rellum.core.values.sayable import sayable


class Sameness(NamedTuple):
    """The texts of a pack. ``tree`` is over everything that mods lay, but for what the player may change."""

    line_up: str
    tree: str


def line_up_text(lock: LockFile) -> str:
    """Return the text of a line-up: its releases in load order with their options, and the game's version."""
    said = [f"{lock.sheet} {lock.game_version.text} {lock.edition} {' '.join(lock.expansions)}"]
    said += [f"{each.mod} {each.label} {each.options}" for each in lock.releases]
    said += [f"{each.mod} {each.label}" for each in lock.grafts]
    return _hashed(said)


def tree_text(state: State, mods: Container[ModId] | None = None) -> str:
    """Return the text of what mods, or some of them, lay: every path with its content, or that it is gone.

    The load-order file is none of them: it names all mods, and the line-up's text has their order.
    """
    return _hashed(
        f"{path} {row.content.digest if row.content else 'nothing'}"
        for path, row in sorted(state.laid().items())
        if isinstance(row.owner, ReleaseName)
        and not row.role
        and (mods is None or row.owner.mod in mods)
    )


def sameness_of(lock: LockFile, state: State, mods: Container[ModId] | None = None) -> Sameness:
    """Return the texts of a pack, as its state has it; with ``mods``, of these alone."""
    if mods is not None:
        releases = tuple(each for each in lock.releases if each.mod in mods)
        grafts = tuple(each for each in lock.grafts if each.mod in mods)
        lock = replace(lock, releases=releases, grafts=grafts)
    return Sameness(line_up_text(lock), tree_text(state, mods))


def _hashed(lines: Iterable[str]) -> str:
    return sayable(hash_bytes("\n".join(lines).encode("utf-8", "surrogateescape")))
