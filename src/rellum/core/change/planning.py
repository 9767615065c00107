"""From what shall be to a plan: the target against the state and the folder as it is.

Only paths that some layer brings or brought are looked at, so the cost grows with the mods and not
with the game. A file whose size and time are as recorded is taken to be unchanged; any other is
hashed.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rellum.core.change.plan import FOREIGN, Operation, Plan, Record
from rellum.core.errors import UserError
from rellum.core.folder.content import RELLUM, VANILLA, Content, Laid
from rellum.core.folder.stamps import MARKER_NAME, STAGING_NAME
from rellum.core.hashing import Digest, hash_bytes, hash_file
from rellum.core.pack.marker import MARKER_PATH
from rellum.core.pack.state import BaselineEntry, State
from rellum.core.paths import GAME, GAME_PREFIX, PlacePath, Roots, parents, shown

if TYPE_CHECKING:
    from rellum.core.layers.model import LayerFile, TargetFile

PLAIN_MODE = 0o644
EXECUTABLE_MODE = 0o755


class CannotLay(UserError):
    """Something stands where a file shall go that Rellum must not replace."""

    code = "cannot-lay"


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What shall stand at a path."""

    content: Content
    owner: str
    source: LayerFile | bytes


def plan_target(
    target: Mapping[PlacePath, TargetFile], marker: bytes, state: State, roots: Roots
) -> Plan:
    """Plan so that the folder becomes the baseline with the target over it. Raises CannotLay."""
    laid = state.laid()
    baseline = state.baseline(target)
    wanted = {path: _from_layer(file, baseline.get(path)) for path, file in target.items()}
    wanted[MARKER_PATH] = Wanted(
        content=Content(digest=hash_bytes(marker), size=len(marker), mode=PLAIN_MODE, mtime_ns=0),
        owner=RELLUM,
        source=marker,
    )
    paths = sorted({*target, *laid, MARKER_PATH})
    return _Planner(state, roots, laid, lambda _: False).plan(paths, wanted)


def plan_vanilla(
    paths: Iterable[PlacePath], state: State, roots: Roots, has_original: Callable[[Digest], bool]
) -> Plan:
    """Plan so that what lies under these paths' layers comes back, and lost vanilla folders too.

    ``has_original`` tells whether a content lies in the store, for vanilla files that no layer
    displaced but that were changed or lost all the same.
    """
    wanted_paths = sorted(set(paths))
    laid = state.laid(wanted_paths)
    return _Planner(state, roots, laid, has_original).plan(wanted_paths, {})


def _from_layer(file: TargetFile, vanilla: BaselineEntry | None) -> Wanted:
    """Return the wish for a layer's file. Raises CannotLay."""
    from rellum.core.layers.model import MadeFile  # restoring plans too, and lays nothing

    top = file.file.path.removeprefix(GAME_PREFIX).partition("/")[0]
    if top in (MARKER_NAME, STAGING_NAME):
        raise CannotLay(
            f"{file.owner} brings {shown(file.file.path)}, a name that Rellum keeps for itself",
            hint="Leave it out by 'take' in the card.",
        )
    if vanilla is not None and vanilla.content is None:
        raise CannotLay(
            f"{shown(file.file.path)}, a file of {file.owner}, is a {vanilla.kind} of the game",
            hint="Correct 'to' in its card.",
        )
    brought = file.file
    if isinstance(brought, MadeFile):
        digest, size, executable = brought.digest, len(brought.content), brought.executable
    else:
        member = brought.member
        digest, size, executable = member.digest, member.size, member.executable
    mode = EXECUTABLE_MODE if executable else PLAIN_MODE
    if vanilla is not None and vanilla.content is not None:
        mode = vanilla.content.mode
    return Wanted(
        content=Content(digest=digest, size=size, mode=mode, mtime_ns=0),
        owner=file.owner,
        source=brought.content if isinstance(brought, MadeFile) else brought,
    )


class _Planner:
    def __init__(
        self,
        state: State,
        roots: Roots,
        laid: Mapping[PlacePath, Laid],
        has_original: Callable[[Digest], bool],
    ) -> None:
        self.state = state
        self.roots = roots
        self.laid = laid
        self.has_original = has_original
        self.left_alone: list[tuple[PlacePath, str]] = []

    def plan(self, paths: list[PlacePath], wanted: Mapping[PlacePath, Wanted]) -> Plan:
        baseline = self.state.baseline(paths)
        operations: list[Operation] = []
        records: list[Record] = []
        for path in paths:
            step = self._step(path, wanted.get(path), baseline.get(path))
            if isinstance(step, Operation):
                operations.append(step)
            elif isinstance(step, Record):
                records.append(step)
        self._refuse_files_above(operation.path for operation in operations if operation.after)
        return Plan(
            operations=tuple(operations),
            records=tuple(records),
            new_folders=tuple(self._new_folders(operations, baseline)),
            spare_folders=tuple(self._spare_folders(operations, records)),
            left_alone=tuple(self.left_alone),
        )

    def _step(
        self, path: PlacePath, wish: Wanted | None, vanilla: BaselineEntry | None
    ) -> Operation | Record | None:
        """Say what is to be done at one path: nothing, a note, or an operation."""
        laid = self.laid.get(path)
        native = vanilla.content if vanilla else None
        known = laid.content if laid else native
        now, changed = self._now(path, known)
        owner = laid.owner if laid else VANILLA if native else FOREIGN
        if wish is not None and native is not None and wish.content.digest == native.digest:
            # The mod brings what the game has: that stays, or becomes, the game's own file again.
            is_vanilla = not changed if laid is None else laid.under == native
            wish = None if is_vanilla else wish
        if wish is None:
            if laid is None:
                return self._step_unlaid(path, native, now, changed)
            return self._step_back(laid, native, now, changed)
        under = laid.under if laid else now
        if now is not None and now.digest == wish.content.digest:
            if laid and laid.owner == wish.owner and laid.content == now:
                return None
            # The right content stands there already: note whose it is, touch nothing.
            return Record(path=path, owner=wish.owner, content=now, under=under)
        return Operation(
            path=path,
            before=now,
            before_owner=owner,
            changed=changed,
            keep=changed and now is not None and laid is not None,
            after=wish.content,
            after_owner=wish.owner,
            under=under,
            source=wish.source,
        )

    def _step_back(
        self, laid: Laid, native: Content | None, now: Content | None, changed: bool
    ) -> Operation | Record | None:
        """The layer over this path goes: what lies under it comes back."""
        under = laid.under
        if native is not None and (under is None or under.digest != native.digest):
            what = "missing" if under is None else "changed"
            why = f"it was {what} already when a mod was laid over it, and is so again"
            self.left_alone.append((laid.path, why))
        if (now.digest if now else None) == (under.digest if under else None):
            return Record(path=laid.path, owner="", content=None, under=None)
        return Operation(
            path=laid.path,
            before=now,
            before_owner=laid.owner,
            changed=changed,
            keep=changed and now is not None,
            after=under,
            after_owner=(VANILLA if native else FOREIGN) if under else "",
            under=None,
            source=None,
        )

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

    def _now(self, path: PlacePath, known: Content | None) -> tuple[Content | None, bool]:
        """Return what stands at a path, and whether it differs from what is known of it."""
        absolute = self.roots.absolute(path)
        try:
            status = os.lstat(absolute)
        except (FileNotFoundError, NotADirectoryError):
            return None, known is not None
        if not stat.S_ISREG(status.st_mode):
            what = "folder" if stat.S_ISDIR(status.st_mode) else "link"
            raise CannotLay(
                f"{shown(path)} is a {what} now, where a file belongs",
                hint="Move it away and try again; nothing was changed.",
            )
        if known and (status.st_size, status.st_mtime_ns) == (known.size, known.mtime_ns):
            return known, False
        digest = hash_file(absolute)
        content = Content(
            digest=digest,
            size=status.st_size,
            mode=stat.S_IMODE(status.st_mode),
            mtime_ns=status.st_mtime_ns,
        )
        return content, known is None or known.digest != digest

    def _refuse_files_above(self, paths: Iterable[PlacePath]) -> None:
        """Refuse to lay a file under something that is no real folder. Raises CannotLay."""
        checked: set[PlacePath] = {PlacePath(GAME)}
        for path in paths:
            for folder in parents(path):
                if folder in checked:
                    break
                checked.add(folder)
                try:
                    mode = os.lstat(self.roots.absolute(folder)).st_mode
                except (FileNotFoundError, NotADirectoryError):
                    continue
                if not stat.S_ISDIR(mode):
                    what = "a link" if stat.S_ISLNK(mode) else "a file"
                    raise CannotLay(
                        f"{shown(folder)} is {what} in the game folder, "
                        f"and {shown(path)} should go below it",
                        hint="Rellum writes through no link. Move it away, or correct the card.",
                    )

    def _new_folders(
        self, operations: list[Operation], baseline: Mapping[PlacePath, BaselineEntry]
    ) -> list[PlacePath]:
        needed = {f for each in operations if each.after for f in parents(each.path)}
        for entry in baseline.values():
            if entry.kind == "folder":
                needed |= {entry.path, *parents(entry.path)}
        return sorted(each for each in needed if not os.path.isdir(self.roots.absolute(each)))

    def _spare_folders(self, operations: list[Operation], records: list[Record]) -> list[PlacePath]:
        """Folders that only layers filled: above files that go or went, and not the game's own."""
        going = {each.path for each in operations if each.after is None}
        going |= {each.path for each in records if each.content is None}
        above = {folder for path in going for folder in parents(path) if folder != GAME}
        own = self.state.baseline(above)
        coming = {f for each in operations if each.after for f in parents(each.path)}
        return sorted(
            (
                folder
                for folder in above - coming
                if folder not in own
                and os.path.isdir(self.roots.absolute(folder))
                and going.issuperset(self.state.laid_below(folder))
            ),
            key=len,
            reverse=True,
        )
