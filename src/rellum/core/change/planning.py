"""From what shall be to a plan: the target against the state and the folder as it is.

Only paths that some layer brings or brought are looked at, so the cost grows with the mods and not
with the game. A file whose size and time are as recorded is taken to be unchanged; any other is
hashed.
"""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Callable, Collection, Container, Iterable, Iterator, Mapping
from typing import TYPE_CHECKING

from rellum.core.change.folders import new_folders, refuse_files_above, spare_folders
from rellum.core.change.plan import FOREIGN, PLAIN_MODE, Operation, Plan, Record
from rellum.core.change.standing import content_at
from rellum.core.folder.content import RELLUM, VANILLA, Content, Laid
from rellum.core.hashing import Digest, hash_bytes
from rellum.core.pack.marker import MARKER_PATH
from rellum.core.pack.rows import BaselineEntry
from rellum.core.pack.state import Kept, State
from rellum.core.paths import PlacePath, Roots, below, is_in_game

if TYPE_CHECKING:
    from rellum.core.change.wanted import TheUsers, Wanted
    from rellum.core.layers.model import Target


def plan_target(target: Target, marker: bytes, state: State, roots: Roots, users: TheUsers) -> Plan:
    """Plan so that the folder becomes the baseline with the target over it. Raises CannotLay.

    What the user put into a folder of a mod that goes is set aside, and comes back with the mod.
    """
    from rellum.core.change.wanted import Wanted, from_layer  # not for restoring

    files = target.files
    laid = state.laid()
    baseline = state.baseline(files)
    wanted = {path: from_layer(file, baseline.get(path)) for path, file in files.items()}
    wanted[MARKER_PATH] = Wanted(
        content=Content(digest=hash_bytes(marker), size=len(marker), mode=PLAIN_MODE, mtime_ns=0),
        owner=RELLUM,
        source=marker,
    )
    aside = {
        each.path: each
        for each in state.kept_aside()
        if each.aside_for in users.mods and each.path not in laid
    }
    paths = sorted({*files, *laid, *aside, MARKER_PATH})
    planner = _Planner(state, roots, laid, lambda _: False, users, aside)
    return planner.plan(paths, wanted, target.folders, whole=True)


def plan_vanilla(
    paths: Iterable[PlacePath],
    state: State,
    roots: Roots,
    has_original: Callable[[Digest], bool],
    *,
    whole: bool = False,
) -> Plan:
    """Plan so that what lies under these paths' layers comes back, and lost vanilla folders too.

    ``whole``: these are all, so that folders which Rellum made go as well. ``has_original`` tells
    whether a content lies in the store, for vanilla files that no layer displaced but that were
    changed or lost all the same.
    """
    wanted_paths = sorted(set(paths))
    laid = state.laid(wanted_paths)
    planner = _Planner(state, roots, laid, has_original)
    return planner.plan(wanted_paths, {}, (), whole=whole)


class _Planner:
    def __init__(
        self,
        state: State,
        roots: Roots,
        laid: Mapping[PlacePath, Laid],
        has_original: Callable[[Digest], bool],
        users: TheUsers | None = None,
        aside: Mapping[PlacePath, Kept] | None = None,
    ) -> None:
        self.state = state
        self.roots = roots
        self.laid = laid
        self.has_original = has_original
        self.users = users
        self.aside = aside or {}
        self.left_alone: list[tuple[PlacePath, str]] = []

    def plan(
        self,
        paths: list[PlacePath],
        wanted: Mapping[PlacePath, Wanted],
        folders: Collection[PlacePath],
        *,
        whole: bool,
    ) -> Plan:
        """Plan for these paths; ``folders`` must be there whatever lies in them.

        ``whole``: other folders that Rellum made are not needed.
        """
        baseline = self.state.baseline(paths)
        operations: list[Operation] = []
        records: list[Record] = []
        for path in paths:
            step = self._step(path, wanted.get(path), baseline.get(path))
            if isinstance(step, Operation):
                operations.append(step)
            elif isinstance(step, Record):
                records.append(step)
        refuse_files_above((each.path for each in operations if each.after), self.roots)
        laid = self.laid if whole else None
        spare = spare_folders(operations, records, folders, self.state, self.roots, laid)
        if self.users:
            known = {each.path for each in operations}
            operations += self._set_aside(spare, known, self.users)
            operations += self._swept(self.users.swept, {each.path for each in operations})
            operations.sort(key=lambda operation: operation.path)
        return Plan(
            operations=tuple(operations),
            records=tuple(records),
            new_folders=tuple(new_folders(operations, baseline, folders, self.roots)),
            spare_folders=tuple(spare),
            left_alone=tuple(self.left_alone),
            bases=tuple(wish.base for wish in wanted.values() if wish.base),
        )

    def _set_aside(
        self, folders: Iterable[PlacePath], known: Container[PlacePath], users: TheUsers
    ) -> Iterator[Operation]:
        """Set aside what the user put into folders of mods that go."""
        seen: set[PlacePath] = set()
        for folder in sorted(folders, key=len):
            above = f"{folder}/"
            is_shared = any(f"{each}/".startswith(above) for each in users.shared)
            if is_shared or folder in seen or not is_in_game(folder):
                continue
            owners = (each.owner for each in self.state.laid_below(folder).values())
            mod, space, _ = next(owners, "").partition(" ")
            if (
                not space or mod in users.mods
            ):  # nobody's, or of a mod that only has no files there now
                continue
            for inside, folders_here, names in os.walk(self.roots.absolute(folder)):
                here = self.roots.place_path(inside)
                assert here is not None
                seen |= {below(here, name) for name in folders_here}
                for path in (below(here, name) for name in names):
                    absolute = self.roots.absolute(path)
                    if path not in known and stat.S_ISREG(os.lstat(absolute).st_mode):
                        now, _ = content_at(self.roots, path, None)
                        assert now is not None
                        yield self._aside(path, now, mod)

    def _swept(
        self, paths: Iterable[PlacePath], known: Container[PlacePath]
    ) -> Iterator[Operation]:
        for path in paths:
            now, _ = (None, False) if path in known else content_at(self.roots, path, None)
            if now is not None:
                yield self._aside(path, now, "")

    def _aside(self, path: PlacePath, now: Content, mod: str) -> Operation:
        return Operation(
            path=path,
            before=now,
            before_owner=FOREIGN,
            changed=True,
            keep=True,
            after=None,
            after_owner="",
            under=None,
            source=None,
            aside_for=mod,
        )

    def _step_return(self, kept: Kept, wish: Wanted | None) -> Operation:
        """The user's file comes back with its mod; one that is merged is laid, as it was."""
        merged = wish is not None and wish.role == "merge"
        after = Content(
            digest=kept.digest, size=kept.size, mode=PLAIN_MODE, mtime_ns=time.time_ns()
        )
        return Operation(
            path=kept.path,
            before=None,
            before_owner=FOREIGN,
            changed=False,
            keep=False,
            after=after,
            after_owner=wish.owner if wish and merged else FOREIGN,
            under=None,
            source=None,
            role="merge" if merged else "",
            base=wish.base.digest if wish and merged and wish.base else None,
            aside_for=kept.aside_for,
        )

    def _step(
        self, path: PlacePath, wish: Wanted | None, vanilla: BaselineEntry | None
    ) -> Operation | Record | None:
        """Say what is to be done at one path: nothing, a note, or an operation."""
        laid = self.laid.get(path)
        native = vanilla.content if vanilla else None
        known = laid.content if laid else native
        now, changed = content_at(self.roots, path, known)
        if now is None and path in self.aside and (wish is None or wish.role):
            return self._step_return(self.aside[path], wish)
        owner = laid.owner if laid else VANILLA if native else FOREIGN
        if wish and wish.content and native and wish.content.digest == native.digest:
            # The mod brings what the game has: that stays, or becomes, the game's own file again.
            is_vanilla = not changed if laid is None else laid.under == native
            wish = None if is_vanilla else wish
        if wish is None:
            if laid is None:
                return self._step_unlaid(path, native, now, changed)
            return self._step_back(laid, native, now, changed)
        if wish.content is None:
            return self._step_away(path, wish, laid, now, changed)
        if wish.role == "mine" and now is not None and changed:
            return self._step_mine(path, wish, laid)
        under = laid.under if laid else now
        base = wish.base.digest if wish.base else None
        if now is not None and now.digest == wish.content.digest:
            if laid and (laid.owner, laid.role, laid.base) == (wish.owner, wish.role, base):
                return None if laid.content == now else self._noted(path, wish, now, under)
            # The right content stands there already: note whose it is, touch nothing.
            return self._noted(path, wish, now, under)
        return Operation(
            path=path,
            before=now,
            before_owner=owner,
            changed=changed,
            keep=now is not None
            and (wish.keeps_copy or (changed and laid is not None and not wish.role)),
            after=wish.content,
            after_owner=wish.owner,
            under=under,
            source=wish.source,
            role=wish.role,
            base=base,
        )

    def _noted(
        self, path: PlacePath, wish: Wanted, content: Content | None, under: Content | None
    ) -> Record:
        return Record(
            path=path,
            owner=wish.owner,
            content=content,
            under=under,
            role=wish.role,
            base=wish.base.digest if wish.base else None,
        )

    def _step_away(
        self, path: PlacePath, wish: Wanted, laid: Laid | None, now: Content | None, changed: bool
    ) -> Operation | Record | None:
        """A layer wants nothing at this path."""
        under = laid.under if laid else now
        if now is None:
            if under is None or (laid and laid.content is None and laid.owner == wish.owner):
                return None
            return self._noted(path, wish, None, under)
        return Operation(
            path=path,
            before=now,
            before_owner=laid.owner if laid else VANILLA,
            changed=changed,
            keep=changed and laid is not None,
            after=None,
            after_owner=wish.owner,
            under=under,
            source=None,
        )

    def _step_mine(self, path: PlacePath, wish: Wanted, laid: Laid | None) -> Record | None:
        """The user changed this file, or had it before the release came: it stays as it is."""
        self.left_alone.append((path, "it is the user's own, and stays as it is"))
        if laid is None:
            return None
        # Noted as it was laid, so that it is known as changed until the user says otherwise.
        return (
            self._noted(path, wish, laid.content, laid.under) if laid.owner != wish.owner else None
        )

    def _step_back(
        self, laid: Laid, native: Content | None, now: Content | None, changed: bool
    ) -> Operation | Record | None:
        """The layer over this path goes: what lies under it comes back."""
        under = laid.under
        if changed and now is not None and under is None and self._stays_the_users(laid):
            self.left_alone.append((laid.path, "it is the user's own, and stays as it is"))
            return Record(path=laid.path, owner="", content=None, under=None)
        lacks = native is not None and (under is None or under.digest != native.digest)
        if native and lacks and self.has_original(native.digest):
            under, lacks = native, False  # it came from a clean copy
        if lacks:
            what = "missing" if under is None else "changed"
            why = f"it was {what} already when a mod was laid over it, and is so again"
            self.left_alone.append((laid.path, why))
        if (now.digest if now else None) == (under.digest if under else None):
            return Record(path=laid.path, owner="", content=None, under=None)
        is_mixed = now is not None and laid.base is not None and now.digest != laid.base
        return Operation(
            path=laid.path,
            before=now,
            before_owner=laid.owner,
            changed=changed,
            keep=(changed or is_mixed) and now is not None,
            after=under,
            after_owner=(VANILLA if native else FOREIGN) if under else "",
            under=None,
            source=None,
            aside_for=laid.owner.partition(" ")[0]
            if self._waits(laid, now, changed or is_mixed)
            else "",
        )

    def _stays_the_users(self, laid: Laid) -> bool:
        """Whether a changed file stays where its mod brings it no longer, but is still there."""
        return self.users is not None and self.users.is_carried(laid.path)

    def _waits(self, laid: Laid, now: Content | None, changed: bool) -> bool:
        """Whether the user's own file waits for its mod to come back."""
        is_there = changed and now is not None and laid.under is None
        return self.users is not None and is_there and laid.role != ""

    def _step_unlaid(
        self, path: PlacePath, native: Content | None, now: Content | None, changed: bool
    ) -> Operation | None:
        """No layer was here; a vanilla file that changed comes back if its content is kept."""
        if native is None or not changed or (now and now.digest == native.digest):
            return None
        if not self.has_original(native.digest):
            self.left_alone.append((path, "Rellum never replaced it, so it has no original of it"))
            return None
        return Operation(
            path=path,
            before=now,
            before_owner=VANILLA,
            changed=True,
            keep=now is not None,
            after=native,
            after_owner=VANILLA,
            under=None,
            source=None,
        )
