"""From what shall be to a plan: the target against the state and the folder as it is.

Only paths that some layer brings or brought are looked at, so the cost grows with the mods and not
with the game. A file whose size and time are as recorded is taken to be unchanged; any other is
hashed.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterable, Mapping
from typing import TYPE_CHECKING

from rellum.core.change.folders import new_folders, refuse_files_above, spare_folders
from rellum.core.change.plan import Operation, Plan, Record
from rellum.core.change.setting_aside import returned, set_aside, swept
from rellum.core.composing.taking_out import TakenOut
from rellum.core.hashing import Digest, hash_bytes
from rellum.core.pack.kept_copies import Kept
from rellum.core.pack.marker import MARKER_PATH
from rellum.core.pack.rows import BaselineEntry
from rellum.core.pack.standing import content_at
from rellum.core.pack.state import State
from rellum.core.values.content import FOREIGN, PLAIN_MODE, RELLUM, VANILLA, Content, Laid
from rellum.core.values.paths import PlacePath, Roots

if TYPE_CHECKING:
    from rellum.core.composing.wanted import TheUsers, Wanted
    from rellum.core.layers.model import Target


NOT_KEPT = (
    "no copy is kept of the file from before the mod, so it stays as it is: "
    "'rellum restore PATH --from COPY' takes a vanilla file from a clean copy"
)


def plan_target(
    target: Target,
    marker: bytes,
    state: State,
    roots: Roots,
    users: TheUsers,
    has_original: Callable[[Digest], bool],
    taken_out: TakenOut | None = None,
) -> Plan:
    """Plan so that the folder becomes the baseline with the target over it. Raises CannotLay.

    ``has_original`` tells whether a content lies in the store: where it does not, what a mod leaves stays.

    What the user put into a folder of a mod that goes is set aside, and comes back with the mod.
    """
    from rellum.core.composing.wanted import Wanted, from_layer  # not for restoring

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
        for each in state.kept.aside()
        if each.aside_for in users.mods and each.path not in laid
    }
    paths = sorted({*files, *laid, *aside, MARKER_PATH})
    planner = _Planner(state, roots, laid, has_original, users, aside, taken_out)
    return planner.plan(paths, wanted, target.folders, whole=True)


def plan_vanilla(
    paths: Iterable[PlacePath],
    state: State,
    roots: Roots,
    has_original: Callable[[Digest], bool],
    *,
    whole: bool = False,
    users: TheUsers | None = None,
    taken_out: TakenOut | None = None,
    trusts: bool = True,
) -> Plan:
    """Plan so that what lies under these paths' layers comes back, and lost vanilla folders too.

    ``whole``: these are all, so that folders which Rellum made go as well. ``has_original`` tells
    whether a content lies in the store, for vanilla files that no layer displaced but that were
    changed or lost all the same. With ``users``, what the user put into folders of mods is set aside.
    ``trusts``: an unchanged size and time prove that a file is unchanged.
    """
    wanted_paths = sorted(set(paths))
    laid = state.laid(wanted_paths)
    planner = _Planner(state, roots, laid, has_original, users, {}, taken_out, trusts=trusts)
    planner.to_vanilla = True
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
        taken_out: TakenOut | None = None,
        *,
        trusts: bool = True,
    ) -> None:
        self.state = state
        self.roots = roots
        self.laid = laid
        self.has_original = has_original
        self.users = users
        self.aside = aside or {}
        self.taken_out = taken_out or {}
        self.trusts = trusts
        self.suspects = state.suspects()
        self.left_alone: list[tuple[PlacePath, str]] = []
        self.kept_too: list[Kept] = []
        self.to_vanilla = False
        """Whether vanilla is to come back, whatever lay under a layer."""

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
            operations += set_aside(self.state, self.roots, spare, known, self.users)
            operations += swept(self.roots, self.users.swept, {each.path for each in operations})
            operations.sort(key=lambda operation: operation.path)
        return Plan(
            operations=tuple(operations),
            records=tuple(records),
            new_folders=tuple(new_folders(operations, baseline, folders, self.roots)),
            spare_folders=tuple(spare),
            left_alone=tuple(self.left_alone),
            bases=tuple(wish.base for wish in wanted.values() if wish.base),
            swept_to=self.users.swept_to if self.users and self.users.swept else "",
            swept=self.users.swept if self.users else (),
            kept_too=tuple(self.kept_too),
        )

    def _standing(
        self, path: PlacePath, known: Content | None, *, trusts: bool = True
    ) -> tuple[Content | None, bool]:
        trusts = trusts and self.trusts and path not in self.suspects
        return content_at(self.roots, path, known, trusts=trusts)

    def _may_return(self, now: Content | None, native: Content | None, wish: Wanted | None) -> bool:
        """Whether the user's file that waited for its mod comes back just as it was.

        One that is merged with what the mod brings is part of the wish instead (``Wanted.returns``).
        """
        if wish is not None and wish.role != "mine":
            return False
        return now is None or (wish is not None and native is not None and now == native)

    def _step(
        self, path: PlacePath, wish: Wanted | None, vanilla: BaselineEntry | None
    ) -> Operation | Record | None:
        """Say what is to be done at one path: nothing, a note, or an operation."""
        laid = self.laid.get(path)
        native = vanilla.content if vanilla else None
        known = laid.content if laid else native
        merges = wish is not None and wish.role == "merge"  # it was hashed for that already
        now, changed = self._standing(path, known, trusts=not merges)
        if path in self.aside and self._may_return(now, native, wish):
            return returned(self.aside[path], now, native)
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
            return self._step_away(path, wish, laid, native, now, changed)
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
            aside_for=wish.returns,
            kept_base=laid.base if laid else None,
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
        self,
        path: PlacePath,
        wish: Wanted,
        laid: Laid | None,
        native: Content | None,
        now: Content | None,
        changed: bool,
    ) -> Operation | Record | None:
        """A layer wants nothing at this path."""
        under = laid.under if laid else now
        if now is None:
            is_noted = laid is not None and laid.content is None and laid.owner == wish.owner
            if is_noted or (under is None and native is None):
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
        self.left_alone.append((path, "it is your own, and stays as it is"))
        if laid is None:
            return None
        # Noted as it was laid, so that it is known as changed until the user says otherwise.
        return (
            self._noted(path, wish, laid.content, laid.under) if laid.owner != wish.owner else None
        )

    def _step_back(
        self, laid: Laid, native: Content | None, now: Content | None, changed: bool
    ) -> Operation | Record | None:
        """The layer over this path goes: what lies under it comes back.

        A vanilla file is what the baseline says. What was under the layer may be of another version of the
        game, or somebody's: it only stands in where the right content cannot be had.
        """
        if changed and now is not None and laid.under is None and self._stays_the_users(laid):
            self.left_alone.append((laid.path, "it is your own, and stays as it is"))
            return Record(path=laid.path, owner="", content=None, under=None)
        if laid.path in self.taken_out and now is not None:
            return self._without_edit(laid, now, native)
        under = self._under(laid, native, now)
        if (now.digest if now else None) == (under.digest if under else None):
            return Record(path=laid.path, owner="", content=None, under=None)
        if under is not None and not self.has_original(under.digest):
            self.left_alone.append((laid.path, NOT_KEPT))
            return Record(path=laid.path, owner="", content=None, under=None)
        is_mixed = now is not None and laid.base is not None and now.digest != laid.base
        is_the_users = now is not None and (changed or is_mixed)
        return Operation(
            path=laid.path,
            before=now,
            before_owner=laid.owner,
            changed=changed,
            keep=is_the_users,
            after=under,
            after_owner=(VANILLA if native else FOREIGN) if under else "",
            under=None,
            source=None,
            aside_for=self._mod_of(laid) if is_the_users and laid.role else "",
            kept_base=laid.base,
        )

    def _under(self, laid: Laid, native: Content | None, now: Content | None) -> Content | None:
        """Return what shall stand where a layer goes; name it where that is not as it should be."""
        under = laid.under
        if native is None or (under is not None and under.digest == native.digest):
            return under
        if self.to_vanilla:
            right = now if now is not None and now.digest == native.digest else None
            if right is None and self.has_original(native.digest):
                right = native
            if right is not None:
                if under is not None:
                    self.kept_too.append(_kept_under(laid.path, under))
                return right
        if under is None:
            why = "the vanilla file was missing already when a mod was laid over it"
        else:
            why = "the file under the mod is not the vanilla file of this game version"
        stands = under is not None and now is not None and now.digest == under.digest
        if under is not None and (stands or self.has_original(under.digest)):
            self.left_alone.append((laid.path, f"{why}, and no copy of that one is kept"))
        elif under is None:
            self.left_alone.append((laid.path, f"{why}, and no copy of it is kept"))
        return under

    def _without_edit(self, laid: Laid, now: Content, native: Content | None) -> Operation | Record:
        """The file stays, without what the mod had set in it."""
        content, keeps = self.taken_out[laid.path]
        digest = hash_bytes(content)
        if digest == now.digest:
            return Record(path=laid.path, owner="", content=None, under=None)
        return Operation(
            path=laid.path,
            before=now,
            before_owner=laid.owner,
            changed=False,
            keep=keeps,
            after=now._replace(digest=digest, size=len(content), mtime_ns=time.time_ns()),
            after_owner=VANILLA if native else FOREIGN,
            under=None,
            source=content,
            aside_for=self._mod_of(laid) if keeps else "",
            kept_base=laid.base,
        )

    def _mod_of(self, laid: Laid) -> str:
        release = self.state.releases.of(laid.owner)
        return release.mod if release else laid.owner

    def _stays_the_users(self, laid: Laid) -> bool:
        """Whether a changed file stays where its mod brings it no longer, but is still there."""
        return self.users is not None and self.users.is_carried(laid.path)

    def _step_unlaid(
        self, path: PlacePath, native: Content | None, now: Content | None, changed: bool
    ) -> Operation | None:
        """No layer was here; a vanilla file that changed comes back if its content is kept."""
        if native is None or not changed or (now and now.digest == native.digest):
            return None
        if not self.has_original(native.digest):
            self.left_alone.append((path, "no copy of the vanilla file is kept"))
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


def _kept_under(path: PlacePath, under: Content) -> Kept:
    """Return what lay under a layer and was not vanilla, as a kept copy: it is in the store already."""
    return Kept(path=path, digest=under.digest, size=under.size, owner=FOREIGN, mode=under.mode)
