"""Reading what the planner decides by: the disk, the state and the store of originals, path by path.

A file whose size and time are as recorded is taken to be unchanged; any other is hashed.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import TYPE_CHECKING

from rellum.core.change.planning import PathFacts, WithoutEdit
from rellum.core.composing.wanted import Wanted, WantedFile
from rellum.core.hashing import Digest, hash_bytes
from rellum.core.pack.rows import BaselineEntry
from rellum.core.pack.standing import content_at
from rellum.core.values.content import Content, Laid
from rellum.core.values.paths import PlacePath, Roots

if TYPE_CHECKING:
    from rellum.core.composing.taking_out import TakenOut
    from rellum.core.composing.wanted import TheUsers
    from rellum.core.pack.kept_copies import Kept
    from rellum.core.pack.state import State


class FactReader:
    """Reads the facts of paths."""

    def __init__(
        self,
        state: State,
        roots: Roots,
        has_original: Callable[[Digest], bool],
        users: TheUsers | None,
        *,
        waiting: Mapping[PlacePath, Kept] | None = None,
        taken_out: TakenOut | None = None,
        trusts: bool = True,
        to_vanilla: bool = False,
    ) -> None:
        """``has_original`` tells whether a content lies in the store of originals.

        ``trusts``: an unchanged size and time prove that a file is unchanged.
        """
        self.roots = roots
        self.has_original = has_original
        self.users = users
        self.waiting = waiting or {}
        self.taken_out = taken_out or {}
        self.trusts = trusts
        self.to_vanilla = to_vanilla
        self.suspects = state.suspects()
        self.moment_ns = time.time_ns()

    def read(
        self,
        paths: Iterable[PlacePath],
        wanted: Mapping[PlacePath, Wanted],
        laid: Mapping[PlacePath, Laid],
        baseline: Mapping[PlacePath, BaselineEntry],
    ) -> Iterator[PathFacts]:
        """Yield the facts of each path. Raises CannotLay where a folder or a link is in the way, OSError."""
        for path in paths:
            entry = baseline.get(path)
            is_carried = self._is_carried(path)
            # What is the player's own is never vanilla, even if it was there at adoption.
            native = entry.content if entry and not is_carried else None
            wish, row = wanted.get(path), laid.get(path)
            now = self._standing(path, row.content if row else native, wish)
            yield PathFacts(
                path=path,
                vanilla=native,
                laid=row,
                now=now,
                wanted=wish,
                waiting=self.waiting.get(path),
                without_edit=self._without_edit(path),
                is_the_users=row is not None and is_carried,
                is_carried=is_carried,
                at_hand=self._at_hand(native, row, now, wish),
                to_vanilla=self.to_vanilla,
                moment_ns=self.moment_ns,
            )

    def _standing(
        self, path: PlacePath, known: Content | None, wish: Wanted | None
    ) -> Content | None:
        # What is merged was hashed for that already.
        merges = isinstance(wish, WantedFile) and wish.role == "merge"
        trusts = self.trusts and not merges and path not in self.suspects
        return content_at(self.roots, path, known, trusts=trusts)[0]

    def _is_carried(self, path: PlacePath) -> bool:
        return self.users is not None and self.users.is_carried(path)

    def _without_edit(self, path: PlacePath) -> WithoutEdit | None:
        if path not in self.taken_out:
            return None
        content, keeps = self.taken_out[path]
        return WithoutEdit(content, hash_bytes(content), keeps)

    def _at_hand(
        self,
        native: Content | None,
        laid: Laid | None,
        now: Content | None,
        wish: Wanted | None,
    ) -> frozenset[Digest]:
        """Return what lies in the store of originals, where that decides anything."""
        is_vanilla = (
            isinstance(wish, WantedFile) and native and wish.content.digest == native.digest
        )
        if wish is not None and not is_vanilla:
            return frozenset()
        digests = {each.digest for each in (native, laid.under if laid else None) if each}
        if now is not None:
            digests.discard(now.digest)
        return frozenset(filter(self.has_original, digests))
