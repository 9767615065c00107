"""Whether two people have the same: short texts over a line-up, and over what lies in the game.

Each has 100 bits of a BLAKE3 hash, so short that it can be read out.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from rellum.core.hashing import hash_bytes
from rellum.core.pack.lock_file import LockFile
from rellum.core.pack.state import State
from rellum.core.values.sayable import sayable


class Sameness(NamedTuple):
    """The texts of a pack. ``tree`` is over everything that mods lay, but for what the player may change."""

    line_up: str
    tree: str


def line_up_text(lock: LockFile) -> str:
    """Return the text of a line-up: its releases in load order with their options, and the game's version."""
    said = [f"{lock.sheet} {lock.game_version.text} {lock.edition} {' '.join(lock.expansions)}"]
    said += [f"{each.mod} {each.label} {each.options}" for each in lock.releases]
    return _hashed(said)


def tree_text(state: State) -> str:
    """Return the text of what mods lay in the game: every path with its content, or that nothing is there."""
    return _hashed(
        f"{path} {row.content.digest if row.content else 'nothing'}"
        for path, row in sorted(state.laid().items())
        if not row.role and not path.endswith("/.rellum-owner.toml")
    )


def sameness_of(lock: LockFile, state: State) -> Sameness:
    """Return the texts of a pack, as its state has it."""
    return Sameness(line_up_text(lock), tree_text(state))


def _hashed(lines: Iterable[str]) -> str:
    return sayable(hash_bytes("\n".join(lines).encode("utf-8", "surrogateescape")))
