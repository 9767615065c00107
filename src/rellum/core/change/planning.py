"""From what shall be to a plan: the target against the state and the folder as it is.

Only paths that some layer brings or brought are looked at, so the cost grows with the mods and not
with the game. A file whose size and time are as recorded is taken to be unchanged; any other is
hashed.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rellum.core.change.plan import FOREIGN, Operation, Plan, Record
from rellum.core.errors import UserError
from rellum.core.folder.content import RELLUM, VANILLA, Content, Laid
from rellum.core.folder.stamps import MARKER_NAME, STAGING_NAME
from rellum.core.hashing import Digest, hash_bytes, hash_file
from rellum.core.pack.marker import MARKER_PATH
from rellum.core.pack.state import BaselineEntry, State
from rellum.core.paths import GAME, PlacePath, Roots, is_in_game, parents, root_of, shown
from rellum.core.roles import Role

if TYPE_CHECKING:
    from rellum.core.layers.model import Brought, Target, TargetFile

IsCarried = Callable[[PlacePath], bool]

PLAIN_MODE = 0o644
EXECUTABLE_MODE = 0o755


class CannotLay(UserError):
    """Something stands where a file shall go that Rellum must not replace."""

    code = "cannot-lay"


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What shall stand at a path; without a content, nothing."""

    content: Content | None
    owner: str
    source: Brought | bytes | None
    role: Role = ""
    base: Brought | None = None


def plan_target(
    target: Target, marker: bytes, state: State, roots: Roots, is_carried: IsCarried
) -> Plan:
    """Plan so that the folder becomes the baseline with the target over it. Raises CannotLay.

    ``is_carried`` tells which files are the user's own where a mod brings them no longer.
    """
    files = target.files
    laid = state.laid()
    baseline = state.baseline(files)
    wanted = {path: _from_layer(file, baseline.get(path)) for path, file in files.items()}
    wanted[MARKER_PATH] = Wanted(
        content=Content(digest=hash_bytes(marker), size=len(marker), mode=PLAIN_MODE, mtime_ns=0),
        owner=RELLUM,
        source=marker,
    )
    paths = sorted({*files, *laid, MARKER_PATH})
    planner = _Planner(state, roots, laid, lambda _: False, is_carried)
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
    planner = _Planner(state, roots, laid, has_original, lambda _: False)
    return planner.plan(wanted_paths, {}, (), whole=whole)


def _from_layer(file: TargetFile, vanilla: BaselineEntry | None) -> Wanted:
    """Return the wish for a layer's file. Raises CannotLay."""
    from rellum.core.layers.model import Removal  # restoring plans too, and lays nothing

    brought = file.file
    name = brought.path[len(root_of(brought.path)) + 1 :].partition("/")[0]
    if name in (MARKER_NAME, STAGING_NAME):
        raise CannotLay(
            f"{file.owner} brings {shown(brought.path)}, a name that Rellum keeps for itself",
            hint="Leave it out by 'take' in the card.",
        )
    if vanilla is not None and vanilla.content is None:
        raise CannotLay(
            f"{shown(brought.path)}, a file of {file.owner}, is a {vanilla.kind} of the game",
            hint="Correct 'to' in its card.",
        )
    if isinstance(brought, Removal):
        return Wanted(content=None, owner=file.owner, source=None)
    mode = EXECUTABLE_MODE if brought.executable else PLAIN_MODE
    if vanilla is not None and vanilla.content is not None:
        mode = vanilla.content.mode
    return Wanted(
        content=Content(digest=brought.digest, size=brought.size, mode=mode, mtime_ns=0),
        owner=file.owner,
        source=brought,
        role=file.role,
        base=file.base,
    )


class _Planner:
    def __init__(
        self,
        state: State,
        roots: Roots,
        laid: Mapping[PlacePath, Laid],
        has_original: Callable[[Digest], bool],
        is_carried: IsCarried,
    ) -> None:
        self.state = state
        self.roots = roots
        self.laid = laid
        self.has_original = has_original
        self.is_carried = is_carried
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
        self._refuse_files_above(operation.path for operation in operations if operation.after)
        own = self.state.own_folders()
        spare = self._spare_folders(operations, records, folders, own, whole=whole)
        return Plan(
            operations=tuple(operations),
            records=tuple(records),
            new_folders=tuple(self._new_folders(operations, baseline, folders)),
            spare_folders=tuple(spare),
            left_alone=tuple(self.left_alone),
            bases=tuple(wish.base for wish in wanted.values() if wish.base and self._is_new(wish)),
        )

    def _is_new(self, wish: Wanted) -> bool:
        """Whether the store of originals may not have a wish's base yet."""
        assert wish.base is not None
        return not self.has_original(wish.base.digest)

    def _step(
        self, path: PlacePath, wish: Wanted | None, vanilla: BaselineEntry | None
    ) -> Operation | Record | None:
        """Say what is to be done at one path: nothing, a note, or an operation."""
        laid = self.laid.get(path)
        native = vanilla.content if vanilla else None
        known = laid.content if laid else native
        now, changed = self._now(path, known)
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
            keep=changed and now is not None and laid is not None and wish.role != "merge",
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
        if changed and now is not None and under is None and self.is_carried(laid.path):
            self.left_alone.append((laid.path, "it is the user's own, and stays as it is"))
            return Record(path=laid.path, owner="", content=None, under=None)
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
        checked: set[PlacePath] = {PlacePath(GAME), *map(PlacePath, self.roots.outside)}
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
        self,
        operations: list[Operation],
        baseline: Mapping[PlacePath, BaselineEntry],
        wanted: Collection[PlacePath],
    ) -> list[PlacePath]:
        needed = {f for each in operations if each.after for f in parents(each.path)}
        needed |= {folder for path in wanted for folder in (path, *parents(path))}
        for entry in baseline.values():
            if entry.kind == "folder":
                needed |= {entry.path, *parents(entry.path)}
        return sorted(each for each in needed if not os.path.isdir(self.roots.absolute(each)))

    def _spare_folders(
        self,
        operations: list[Operation],
        records: list[Record],
        wanted: Collection[PlacePath],
        made: set[PlacePath],
        *,
        whole: bool,
    ) -> list[PlacePath]:
        """Folders that only layers filled: above files that go or went, and nobody else's."""
        going = {each.path for each in operations if each.after is None}
        going |= {each.path for each in records if each.content is None}
        above = {folder for path in going for folder in parents(path) if folder != GAME}
        above |= made if whole else set()
        vanilla = self.state.baseline(above)
        coming = {f for each in operations if each.after for f in parents(each.path)}
        coming |= {folder for path in wanted for folder in (path, *parents(path))}
        return sorted(
            (
                folder
                for folder in above - coming
                if (folder not in vanilla if is_in_game(folder) else folder in made)
                and os.path.isdir(self.roots.absolute(folder))
                and going.issuperset(self.state.laid_below(folder))
            ),
            key=len,
            reverse=True,
        )
