"""From a checkpoint to a plan: what stood then against what stands now.

Only what changed since is looked at, and what a look at the folder found changed or missing.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Container, Set
from typing import NamedTuple

from rellum.core.change.operations import (
    BringBack,
    Found,
    Keep,
    LayAgain,
    Operation,
    Remove,
    Return,
    SetAside,
)
from rellum.core.change.plan import Plan
from rellum.core.change.planning import Forget
from rellum.core.change.players_plan import tellable
from rellum.core.change.setting_aside import set_aside, with_emptied
from rellum.core.composing.wanted import TheUsers
from rellum.core.hashing import Digest
from rellum.core.pack.checkpoints import PastState
from rellum.core.pack.kept_copies import Kept
from rellum.core.pack.rows import BaselineEntry, baseline_entry, laid_of_row
from rellum.core.pack.standing import content_at
from rellum.core.pack.state import State
from rellum.core.values.content import Content, Laid
from rellum.core.values.owners import FOREIGN, VANILLA, mod_of
from rellum.core.values.paths import PlacePath, Roots, is_in_game, parents, root_of

LOST_VANILLA = "the vanilla file of that time is kept nowhere: name a copy of the game with --from"
LOST_OF_MOD = (
    "the mod's file of that time is kept nowhere: get its archive with 'rellum fetch' or 'rellum take', "
    "then run rewind again"
)
LOST_ELSE = "its content of that time is kept nowhere"
CHANGED_INSTEAD = (
    "the mod's file of that time is kept nowhere; the version that was changed since comes back"
)


class Look(NamedTuple):
    """What a look at the folder found.

    drifted: files that are changed or missing, by a check
    suspects: files whose size and time prove nothing
    is_carried: which files are the user's own; they stay as they are unless ``with_carried``, or their mod
        goes: then they wait for it
    shared: folders that mods share
    """

    drifted: Set[PlacePath]
    suspects: Container[PlacePath]
    is_carried: Callable[[PlacePath], bool]
    with_carried: bool
    shared: frozenset[PlacePath] = frozenset()


class Rewinder:
    """Plans the way back to one checkpoint. Raises CannotLay where a folder or a link is in the way.

    ``has_content`` tells whether a content lies in the store of originals.
    """

    def __init__(
        self,
        then: PastState,
        state: State,
        roots: Roots,
        has_content: Callable[[Digest], bool],
        look: Look,
    ) -> None:
        self.then = then
        self.state = state
        self.roots = roots
        self.has_content = has_content
        self.look = look
        paths = {*then.files, *then.laid, *then.vanilla, *then.settings, *look.drifted}
        self.paths = sorted(path for path in paths if self._is_known(path))
        self.laid = state.laid(self.paths)
        self.baseline: dict[PlacePath, BaselineEntry] = state.baseline(self.paths)
        self.own_folders = state.own_folders()
        self.waiting = {each.path: each for each in state.kept.aside()}
        self.left_alone: list[tuple[PlacePath, str]] = []
        self.stays: list[PlacePath] = []
        """The user's own files that are not as they were then, and stay as they are."""

    def wanted(self) -> dict[PlacePath, Content]:
        """Return the contents that the plan may need, and that do not stand in their place already."""
        found: dict[PlacePath, Content] = {}
        for path in self.paths:
            if not self._is_vanilla_file_or_none(path):
                continue
            now, changed = self._standing(path)
            row = self._row_then(path)
            wanted = self._preferred(path, now)
            if wanted and (now is None or now.digest != wanted.digest):
                if not self._is_the_users(path, now, changed):
                    found[path] = wanted
            elif row and row.under and self.laid.get(path) is None:
                found[path] = row.under
        return found

    def unders(self) -> dict[PlacePath, Content]:
        """Return what lay under files of mods then: what edits of them were made from."""
        rows = {path: self._row_then(path) for path in self.then.laid}
        return {path: row.under for path, row in rows.items() if row and row.under}

    def plan(self) -> Plan:
        """Plan so that files, what is noted of them, and settings are as they were.

        What cannot be had stays as it is, and is named in ``left_alone``.
        """
        self.left_alone, self.stays = [], []
        operations: list[Operation] = []
        noted: list[Laid] = []
        forgotten: list[PlacePath] = []
        for path in self.paths:
            if not self._is_vanilla_file_or_none(path):
                continue
            step = self._step(path)
            if isinstance(step, Laid):
                noted.append(step)
            elif isinstance(step, Forget):
                forgotten.append(step.path)
            elif step is not None:
                operations.append(step)
        new, spare = self._folders(operations)
        known = {*self.paths, *(each.path for each in operations)}
        operations += set_aside(self.state, self.roots, spare, known, self._users())
        operations.sort(key=lambda operation: operation.path)
        spare = with_emptied(spare, operations, self.roots)
        return Plan(
            operations=tuple(operations),
            noted=tuple(noted),
            forgotten=tuple(forgotten),
            new_folders=new,
            spare_folders=spare,
            left_alone=tuple(self.left_alone),
            baseline=tuple(self.then.vanilla.items()),
            identity=self.then.identity if self.then.vanilla else "",
        )

    def _users(self) -> TheUsers:
        """Return what is the user's own, with the mods that are in the game then."""
        laid = self.state.laid()
        then = {path: laid_of_row(row) if row else None for path, row in self.then.laid.items()}
        mods = frozenset(mod_of(row.owner) for row in {**laid, **then}.values() if row)
        return TheUsers(is_carried=self.look.is_carried, shared=self.look.shared, mods=mods)

    def becomes_nobodys(self, path: PlacePath) -> bool:
        """Whether a path is neither a mod's nor the game's nor the user's then."""
        is_ones = self._row_then(path) or self._entry_then(path) or path in self.stays
        return not is_ones

    def _is_known(self, path: PlacePath) -> bool:
        """Whether it is known where a path lies on this machine."""
        return is_in_game(path) or root_of(path) in self.roots.outside

    def _is_vanilla_file_or_none(self, path: PlacePath) -> bool:
        """Whether a path is no vanilla folder or link: these are made again with what lies in them."""
        entry = self.baseline.get(path)
        return entry is None or entry.kind == "file"

    def _standing(self, path: PlacePath) -> tuple[Content | None, bool]:
        laid, entry = self.laid.get(path), self.baseline.get(path)
        known = laid.content if laid else entry.content if entry else None
        trusts = path not in self.look.suspects
        return content_at(self.roots, path, known, trusts=trusts)

    def _step(self, path: PlacePath) -> Operation | Laid | Forget | None:
        laid = self.laid.get(path)
        row = self._row_then(path)
        entry = self.baseline.get(path)
        native = entry.content if entry else None
        now, changed = self._standing(path)
        if row and row.under and laid is None and not self._is_at_hand(row.under, now):
            row = row._replace(
                under=now
            )  # what it lay over is gone: then over what stands there now
        wanted = self._content_then(path, now)
        if self._is_the_users(path, now, changed) and _digest(now) != _digest(wanted):
            if laid and row is None and native is None and now is not None:
                return SetAside(
                    path, Found(now, laid.owner, changed), Keep(mod_of(laid.owner), laid.base)
                )
            self.stays.append(path)
            return self._noted(path, row, now)
        if wanted and not self._is_at_hand(wanted, now):
            self.left_alone.append((path, self._lost(path, row)))
            wanted = now
        if _digest(now) == _digest(wanted):
            return self._noted(path, row, now)
        waits = self.then.aside.get(path, "") if wanted is None else ""
        kept: Kept | None = self.waiting.get(path) if wanted else None
        is_setting = path in self.then.settings and laid is None
        found = Found(now, laid.owner if laid else VANILLA if native else FOREIGN, changed)
        keep = None
        if now is not None and (waits or self._must_keep(path, changed, is_setting)):
            keep = Keep(waits or (kept.aside_for if kept else ""))
        returns = kept.aside_for if kept and not keep else ""
        after = tellable(wanted, row) if wanted and row else wanted
        if row is not None:
            return LayAgain(path, found, row, after, keep=keep, returns=returns)
        if after is None:
            is_the_users = waits or found.owner is FOREIGN
            return SetAside(path, found, keep) if is_the_users else Remove(path, found, keep)
        if returns:
            return Return(path, found, after, returns)
        owner = VANILLA if self._entry_then(path) else FOREIGN
        return BringBack(path, found, after, owner, keep=keep)

    def _must_keep(self, path: PlacePath, changed: bool, is_setting: bool) -> bool:
        """Whether what stands there is kept for the user: a setting is in the checkpoint made before this."""
        return self.look.is_carried(path) or (changed and not is_setting)

    def _is_the_users(self, path: PlacePath, now: Content | None, changed: bool) -> bool:
        """Whether what stands at a path, or is gone from there, is the user's own affair."""
        if self.look.with_carried or not self.look.is_carried(path):
            return False
        laid = self.laid.get(path)
        if laid is not None:
            return changed
        return now is not None or self._row_then(path) is None

    def _preferred(self, path: PlacePath, now: Content | None) -> Content | None:
        """Return what should stand at a path: what stood there, or better, what Rellum had left there.

        The two differ where somebody changed the file since; when, nobody knows.
        """
        if path in self.then.settings:
            return self.then.settings[path]
        left = self._left_then(path)
        if path not in self.then.files:
            is_other = path in self.look.drifted or (
                path in self.then.laid and (self._row_then(path) or left is not None)
            )
            # The pack was on another version of the game: its file may be another, too.
            is_other = is_other or (path in self.then.vanilla and left is not None)
            return left if is_other else now
        stood = self.then.files[path]
        if self._row_then(path):
            return left  # a mod's word, also where it takes a file away
        if stood and left is None and path in self.then.later and not self._row_then(path):
            return now  # a file of no owner, which may or may not have been there
        return left or stood

    def _content_then(self, path: PlacePath, now: Content | None) -> Content | None:
        wanted = self._preferred(path, now)
        stood = self.then.files.get(path)
        if wanted is None or self._is_at_hand(wanted, now):
            return wanted
        if stood and stood.digest != wanted.digest and self._is_at_hand(stood, now):
            self.left_alone.append((path, CHANGED_INSTEAD))
            return stood
        return wanted

    def _lost(self, path: PlacePath, row: Laid | None) -> str:
        if row:
            return LOST_OF_MOD
        return LOST_VANILLA if self._entry_then(path) else LOST_ELSE

    def _left_then(self, path: PlacePath) -> Content | None:
        row = self._row_then(path)
        if row:
            return row.content
        entry = self._entry_then(path)
        return entry.content if entry else None

    def _row_then(self, path: PlacePath) -> Laid | None:
        if path not in self.then.laid:
            return self.laid.get(path)
        row = self.then.laid[path]
        return laid_of_row(row) if row else None

    def _entry_then(self, path: PlacePath) -> BaselineEntry | None:
        if path not in self.then.vanilla:
            return self.baseline.get(path)
        row = self.then.vanilla[path]
        return baseline_entry(row) if row else None

    def _is_at_hand(self, wanted: Content, now: Content | None) -> bool:
        return (now is not None and now.digest == wanted.digest) or self.has_content(wanted.digest)

    def _noted(
        self, path: PlacePath, row: Laid | None, now: Content | None
    ) -> Laid | Forget | None:
        """Note what was laid then, where the right content stands there already."""
        before = self.laid.get(path)
        if row and now and row.content and row.content.digest == now.digest:
            row = row._replace(content=now)
        if row == before:
            return None
        return Forget(path) if row is None else row

    def _folders(
        self, operations: list[Operation]
    ) -> tuple[tuple[PlacePath, ...], tuple[PlacePath, ...]]:
        """Return the folders to be made again, the outer first, and those to go, the inner first."""
        needed = {path for path, own in self.then.folders.items() if own}
        needed |= {folder for each in operations if each.after for folder in parents(each.path)}
        needed |= {path for path in self.look.drifted if self._is_lost_folder(path)}
        new = sorted(each for each in needed if self._is_known(each) and not self._is_there(each))
        spare = [
            path
            for path, own in self.then.folders.items()
            if not own and path in self.own_folders and path not in needed and self._is_there(path)
        ]
        came = [path for path, row in self.then.vanilla.items() if row is None]
        entries = self.state.baseline(came).values()  # folders that an update of the game brought
        spare += [each.path for each in entries if each.kind == "folder"]
        return tuple(new), tuple(sorted(set(spare) - needed, key=len, reverse=True))

    def _is_lost_folder(self, path: PlacePath) -> bool:
        entry = self.baseline.get(path)
        return entry is not None and entry.kind == "folder"

    def _is_there(self, folder: PlacePath) -> bool:
        return self._is_known(folder) and os.path.isdir(self.roots.absolute(folder))


def _digest(content: Content | None) -> Digest | None:
    return content.digest if content else None
