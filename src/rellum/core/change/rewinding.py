"""From a checkpoint to a plan: what stood then against what stands now.

Only what changed since is looked at, so going back costs the change, not the game.
"""

from __future__ import annotations

import os
from collections.abc import Callable

from rellum.core.change.plan import FOREIGN, Operation, Plan, Record
from rellum.core.change.standing import content_at
from rellum.core.folder.content import VANILLA, Content, Laid
from rellum.core.hashing import Digest
from rellum.core.pack.checkpoints import Then
from rellum.core.pack.rows import BaselineEntry, baseline_entry, laid_of_row
from rellum.core.pack.state import Kept, State
from rellum.core.paths import PlacePath, Roots, is_in_game, parents

LOST = "its content is kept nowhere any more"


def plan_rewind(
    then: Then, state: State, roots: Roots, has_content: Callable[[Digest], bool]
) -> Plan:
    """Plan so that files, what is noted of them, and settings are as they were. Raises CannotLay.

    ``has_content`` tells whether a content lies in the store of originals. What is kept nowhere stays as
    it is, and is named in ``left_alone``.
    """
    return _Rewinder(then, state, roots, has_content).plan()


class _Rewinder:
    def __init__(
        self, then: Then, state: State, roots: Roots, has_content: Callable[[Digest], bool]
    ) -> None:
        self.then = then
        self.state = state
        self.roots = roots
        self.has_content = has_content
        self.paths = sorted({*then.files, *then.laid, *then.settings})
        self.laid = state.laid(self.paths)
        self.baseline: dict[PlacePath, BaselineEntry] = state.baseline(self.paths)
        self.own_folders = state.own_folders()
        self.waiting = {each.path: each for each in state.kept_aside()}
        self.left_alone: list[tuple[PlacePath, str]] = []

    def plan(self) -> Plan:
        operations: list[Operation] = []
        records: list[Record] = []
        for path in self.paths:
            step = self._step(path)
            if isinstance(step, Operation):
                operations.append(step)
            elif step is not None:
                records.append(step)
        new, spare = self._folders(operations)
        changes_game = self.then.vanilla or None
        return Plan(
            operations=tuple(operations),
            records=tuple(records),
            new_folders=new,
            spare_folders=spare,
            left_alone=tuple(self.left_alone),
            baseline=tuple(self.then.vanilla.items()),
            identity=self.then.identity if changes_game else "",
        )

    def _step(self, path: PlacePath) -> Operation | Record | None:
        laid = self.laid.get(path)
        row = self._row_then(path)
        entry = self.baseline.get(path)
        native = entry.content if entry else None
        now, changed = content_at(self.roots, path, laid.content if laid else native)
        if row and row.under and laid is None and not self._is_at_hand(row.under, now):
            row = row._replace(
                under=now
            )  # what it lay over is gone: then over what stands there now
        wanted = self._content_then(path, now)
        if wanted and not self._is_at_hand(wanted, now):
            self.left_alone.append((path, LOST))
            wanted = now
        if (now.digest if now else None) == (wanted.digest if wanted else None):
            return self._noted(path, row, now)
        waits = self.then.aside.get(path, "") if wanted is None else ""
        kept: Kept | None = self.waiting.get(path) if wanted else None
        is_setting = path in self.then.settings and laid is None
        return Operation(
            path=path,
            before=now,
            before_owner=laid.owner if laid else VANILLA if native else FOREIGN,
            changed=changed,
            # A setting is in the checkpoint that is made before this.
            keep=bool(waits) or (changed and now is not None and not is_setting),
            after=wanted,
            after_owner=self._owner_then(path, row) if wanted else "",
            under=row.under if row else None,
            source=None,
            aside_for=waits or (kept.aside_for if kept else ""),
            row=row,
        )

    def _content_then(self, path: PlacePath, now: Content | None) -> Content | None:
        """Return what shall stand at a path: what stood there, or better, what Rellum had left there.

        The two differ where somebody changed the file since; when, nobody knows.
        """
        if path in self.then.settings:
            return self.then.settings[path]
        if path not in self.then.files:
            return now
        stood, left = self.then.files[path], self._left_then(path)
        if stood and left is None and path in self.then.later and not self._row_then(path):
            return now  # nobody's file, of which nobody knows whether it was there then
        if left and (stood is None or stood.digest != left.digest) and self._is_at_hand(left, now):
            return left
        return stood

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

    def _owner_then(self, path: PlacePath, row: Laid | None) -> str:
        if row:
            return row.owner
        return VANILLA if self._entry_then(path) else FOREIGN

    def _entry_then(self, path: PlacePath) -> BaselineEntry | None:
        if path not in self.then.vanilla:
            return self.baseline.get(path)
        row = self.then.vanilla[path]
        return baseline_entry(row) if row else None

    def _is_at_hand(self, wanted: Content, now: Content | None) -> bool:
        return (now is not None and now.digest == wanted.digest) or self.has_content(wanted.digest)

    def _noted(self, path: PlacePath, row: Laid | None, now: Content | None) -> Record | None:
        """Note what was laid then, where the right content stands there already."""
        before = self.laid.get(path)
        if row and now and row.content and row.content.digest == now.digest:
            row = row._replace(content=now)
        if row == before:
            return None
        if row is None:
            return Record(path=path, owner="", content=None, under=None)
        return Record(
            path=path,
            owner=row.owner,
            content=row.content,
            under=row.under,
            role=row.role,
            base=row.base,
        )

    def _folders(
        self, operations: list[Operation]
    ) -> tuple[tuple[PlacePath, ...], tuple[PlacePath, ...]]:
        """Return the folders to be made again, the outer first, and those to go, the inner first."""
        needed = {path for path, own in self.then.folders.items() if own}
        needed |= {folder for each in operations if each.after for folder in parents(each.path)}
        new = sorted(each for each in needed if not self._is_there(each))
        spare = [
            path
            for path, own in self.then.folders.items()
            if not own and path in self.own_folders and path not in needed and self._is_there(path)
        ]
        came = [path for path, row in self.then.vanilla.items() if row is None]
        entries = self.state.baseline(came).values()  # folders that an update of the game brought
        spare += [each.path for each in entries if each.kind == "folder"]
        return tuple(new), tuple(sorted(set(spare) - needed, key=len, reverse=True))

    def _is_there(self, folder: PlacePath) -> bool:
        known = is_in_game(folder) or folder.partition("/")[0] in self.roots.outside
        return known and os.path.isdir(self.roots.absolute(folder))
