"""Restore: bring back what lies under one file, one mod, or all mods."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from rellum.core.change.execute import RolledBack, execute
from rellum.core.change.learning import learn_vanilla
from rellum.core.change.opening import open_pack
from rellum.core.change.operations import source_of
from rellum.core.change.plan import Plan
from rellum.core.change.readiness import Space, space_for
from rellum.core.change.request import Request
from rellum.core.change.staging import NoSources, Sources
from rellum.core.change.supplies import supplies, supply_contents, supply_from_stores
from rellum.core.change.target_plans import plan_vanilla
from rellum.core.composing.taking_out import Without, contents, without_edits
from rellum.core.composing.wanted import TheUsers
from rellum.core.errors import UserError
from rellum.core.nearest import meant, nearest
from rellum.core.notices import note
from rellum.core.pack.hunt_log import end_log, hunt_file
from rellum.core.pack.marker import refuse_other_owner
from rellum.core.pack.originals import OriginalDamaged
from rellum.core.pack.rows import BaselineEntry
from rellum.core.pack.session import Session
from rellum.core.pack.state import State
from rellum.core.values.content import Content, Laid
from rellum.core.values.owners import RELLUM
from rellum.core.values.paths import (
    GAME,
    PlacePath,
    fault_in_relative,
    is_inside,
    root_of,
    shown,
)

if TYPE_CHECKING:
    from rellum.core.folder.model import Drift


class NothingToRestore(UserError):
    """What was named is no file of the game, or no mod that is in it."""

    code = "nothing-to-restore"


class NoOriginal(UserError):
    """A file cannot be brought back: Rellum never replaced it and so kept no original."""

    code = "no-original"


class Restoration(NamedTuple):
    """What ``restore`` would do.

    ``foreign`` are files that are neither the game's nor Rellum's, ``yours`` the user's own and vanilla files
    that the user may change: both stay as they are. ``kept_keys`` are keys in the user's own files that a mod
    had set and that were changed since: they stay, too. ``written_by_game`` are files that the game writes
    itself. ``is_deep``: files of an unchanged size and time were read, too.
    """

    plan: Plan
    space: Space
    foreign: tuple[PlacePath, ...] = ()
    yours: tuple[PlacePath, ...] = ()
    kept_keys: tuple[tuple[PlacePath, str], ...] = ()
    written_by_game: tuple[PlacePath, ...] = ()
    is_deep: bool = False


class RestoreResult(NamedTuple):
    """What was done. ``done`` is False where the user said no."""

    restoration: Restoration
    done: bool
    originals_folder: str


Confirm = Callable[[Restoration], bool]


def going_on(work: Callable[[Session], RestoreResult], opened: Session) -> RestoreResult:
    """Restore; where an original is found to be damaged, begin again without it. Raises what ``work`` does.

    It counts as missing from then on, and is named with what could not be restored.
    """
    while True:
        try:
            return work(opened)
        except RolledBack as error:
            if not isinstance(error.__cause__, OriginalDamaged):
                raise
            note(error.__cause__.summary)


def restore_paths(
    request: Request, paths: Sequence[str], confirm: Confirm, source: str = ""
) -> RestoreResult:
    """Restore files, or all files in folders, named from the game folder.

    ``source``, here and below: a folder or an archive from which originals come that Rellum never saw.
    They are looked for on the shelf as well. Each file named is hashed, whatever its size and time.

    Raises NothingToRestore, NoOriginal, RolledBack, and what opening can raise.
    """

    def work(opened: Session) -> RestoreResult:
        wanted: dict[PlacePath, None] = {}
        for path in paths:
            wanted.update(dict.fromkeys(_files_named(path, opened)))
        with supplies(opened):
            plan = _Planning(opened, wanted, source, request.shelf_folder, trusts=False)
            if plan.plan.left_alone and not plan.plan.operations:
                left = plan.plan.left_alone
                raise NoOriginal(
                    "there is no kept original of "
                    + ", ".join(shown(path) for path, _ in left[:5]),
                    details=tuple(f"{shown(path)}: {why}" for path, why in left),
                    hint="Name a clean copy of the game with --from, or let the store verify the game.",
                )
            return carry_out(opened, plan.restoration(), confirm)

    with open_pack(request) as opened:
        return going_on(work, opened)


def restore_mod(request: Request, mod: str, confirm: Confirm, source: str = "") -> RestoreResult:
    """Restore every file that belongs to a mod. Raises NothingToRestore, RolledBack.

    What the user changed in its settings, or put into its folder, is set aside for it.
    """

    def work(opened: Session) -> RestoreResult:
        laid = opened.state.laid_by(mod)
        if not laid:
            owners = {str(each.mod) for each in opened.state.releases_laid()}
            raise NothingToRestore(
                f"the game has no files of {mod!r}" + nearest(mod, owners),
                hint=f"Mods in the game: {', '.join(sorted(owners)) or 'none'}.",
            )
        with supplies(opened):
            planning = _Planning(opened, laid, source, request.shelf_folder, sets_aside=True)
            return carry_out(opened, planning.restoration(), confirm)

    with open_pack(request) as opened:
        return going_on(work, opened)


def restore_all(
    request: Request, confirm: Confirm, source: str = "", *, deep: bool = False
) -> RestoreResult:
    """Bring the whole folder back to vanilla, the marker included; foreign files and the user's own stay.

    ``deep``: vanilla files are hashed, also where size and time are as recorded; else these are believed.

    What the user changed in settings of mods, or put into their folders, is set aside for them.
    """

    def work(opened: Session) -> RestoreResult:
        from rellum.core.change.looking import drift_of

        drift = drift_of(opened, deep=deep, listen=request.listen)
        paths = {*opened.state.laid(), *drifted_paths(drift, opened.state)}
        with supplies(opened):
            planning = _Planning(
                opened, paths, source, request.shelf_folder, whole=True, sets_aside=True
            )
            going = {each.path for each in planning.plan.operations}
            gone = {each.path for each in planning.plan.operations if not each.after}
            foreign = [each.path for each in drift.findings if each.kind == "foreign"]
            foreign += _left_under(opened, foreign)
            restoration = planning.restoration()._replace(
                foreign=tuple(sorted(path for path in foreign if path not in gone)),
                yours=tuple(path for path in drift.own_changes if path not in going),
                written_by_game=drift.written_by_game,
                is_deep=deep,
            )
            return carry_out(opened, restoration, confirm)

    with open_pack(request) as opened:
        result = going_on(work, opened)
        if result.done:
            opened.state.note_idle(())
        if result.done and os.path.exists(hunt_file(opened.home)):
            end_log(opened.home)
            note("the hunt is given up: none of its mods is in the game")
        return result


def _left_under(opened: Session, known: Sequence[PlacePath]) -> list[PlacePath]:
    """Return somebody's files that mods lie over: they are back where the mods go."""
    rows = [row for row in opened.state.laid().values() if row.under and row.owner != RELLUM]
    vanilla = opened.state.baseline([row.path for row in rows])
    return [row.path for row in rows if row.path not in vanilla and row.path not in known]


def drifted_paths(drift: Drift, state: State) -> set[PlacePath]:
    """Return what is changed or missing; a lost folder is one finding, and all below it is lost too."""
    missing = [each.path for each in drift.findings if each.kind == "missing"]
    below = {path for folder in missing for path in state.baseline_below(folder)}
    return {each.path for each in drift.findings if each.kind != "foreign"} | below


class _Planning:
    """Plans with the originals that there are, and those that a copy or the shelf has. Raises NoSupply."""

    def __init__(
        self,
        opened: Session,
        paths: Iterable[PlacePath],
        source: str,
        shelf_folder: str,
        *,
        whole: bool = False,
        sets_aside: bool = False,
        trusts: bool = True,
    ) -> None:
        self.opened = opened
        self.paths = sorted(set(paths))
        self.whole = whole
        self.trusts = trusts
        self.users = (
            TheUsers(is_carried=lambda _: False, shared=opened.rules.shared, mods=frozenset())
            if sets_aside
            else None
        )
        learn_vanilla(opened, source)
        self.without = self._without_edits()
        self.plan = self._plan()
        wanted = self._wanted()
        if source:
            supply_contents(opened, source, wanted)
        if wanted:
            supply_from_stores(opened, shelf_folder, wanted)
            self.plan = self._plan()

    def _plan(self) -> Plan:
        return plan_vanilla(
            self.paths,
            self.opened.state,
            self.opened.roots,
            self.opened.site.originals.has,
            whole=self.whole,
            users=self.users,
            taken_out=contents(self.without),
            trusts=self.trusts,
        )

    def _without_edits(self) -> list[Without]:
        """Return the user's own files without what mods set in them; vanilla files come back whole."""
        state = self.opened.state
        vanilla = state.baseline(self.paths)
        rows = [row for path, row in state.laid(self.paths).items() if path not in vanilla]
        home, roots = self.opened.home, self.opened.roots
        return list(
            without_edits(
                rows,
                home,
                roots,
                lambda _: False,
                lambda _: "mine",
                self.opened.rules.settings_form,
            )
        )

    def _wanted(self) -> dict[PlacePath, Content]:
        """Return the contents that the plan lacks, or brings back out of a store that may be damaged."""
        left = [path for path, _ in self.plan.left_alone]
        wanted = {p: e.content for p, e in self.opened.state.baseline(left).items() if e.content}
        for each in self.plan.operations:
            if each.after and source_of(each) is None and each.path not in wanted:
                wanted[each.path] = each.after
        return wanted

    def restoration(self) -> Restoration:
        """Return the restoration."""
        return Restoration(
            plan=self.plan,
            space=space_for(self.plan, self.opened.home, self.opened.roots),
            kept_keys=tuple(
                (each.laid.path, conflict.key)
                for each in self.without
                for conflict in each.conflicts
            ),
        )


def carry_out(
    opened: Session,
    restoration: Restoration,
    confirm: Confirm,
    sources: Sources | None = None,
) -> RestoreResult:
    """Ask, and carry a restoration out."""
    refuse_other_owner(opened.roots, opened.home, opened.adopted.pack_id)
    plan = restoration.plan
    done = plan.is_empty or not plan.visible or confirm(restoration)
    if done and not plan.is_empty:
        execute(plan, "restore", opened.site, sources or NoSources())
    folder = opened.home.originals_folder
    return RestoreResult(restoration=restoration, done=done, originals_folder=folder)


def _files_named(text: str, opened: Session) -> list[PlacePath]:
    """Return the game's and Rellum's files that a path names: one, or all in a folder."""
    path = named_path(text, opened)
    state = opened.state
    found = _restorable(state.baseline([path]), state.laid([path]))
    if not found:
        found = _restorable(state.baseline_below(path), state.laid_below(path))
    if not found:
        there = os.path.lexists(opened.roots.absolute(path))
        what = (
            "is foreign: it belongs neither to the game nor to a mod"
            if there
            else "is not a file of the game"
        )
        close = "" if there else _meant(path, opened)
        raise NothingToRestore(
            f"{shown(path)} {what}{close}",
            hint="Paths are relative to the game folder, for example 'data/sea.dat'; see 'rellum check'.",
        )
    return sorted(found)


def _restorable(
    vanilla: Mapping[PlacePath, BaselineEntry], laid: Mapping[PlacePath, Laid]
) -> set[PlacePath]:
    """Return the files among these entries, without Rellum's own marker."""
    files = {path for path, entry in vanilla.items() if entry.kind == "file"}
    return files | {path for path, entry in laid.items() if entry.owner != RELLUM}


def _meant(path: PlacePath, opened: Session) -> str:
    """Propose files of the same name elsewhere, else those of nearly the same name in that folder."""
    same = opened.state.paths_like(path)
    if same:
        return meant([shown(each) for each in same[:3]])
    folder = PlacePath(path.rpartition("/")[0])
    beside = {*opened.state.baseline_below(folder), *opened.state.laid_below(folder)}
    return nearest(shown(path), map(shown, beside))


def _as_meant(text: str, opened: Session) -> str:
    """Return a path without the quotes it was dragged in with; in full, if it is meant from this folder."""
    if len(text) > 2 and text[0] == text[-1] and text[0] in "'\"":
        text = text[1:-1]
    game = opened.roots.game_folder
    if "\\" in text and not os.path.lexists(os.path.join(game, text)):
        text = text.replace("\\", "/")
    is_from_game = not text.startswith("..") and os.path.lexists(os.path.join(game, text))
    here = os.path.abspath(text)
    return here if not is_from_game and is_inside(here, game) else text


def named_path(text: str, opened: Session) -> PlacePath:
    """Return the path that a user names: from the game folder, from here, or in full.

    Quotes around it that came along, and backslashes, are no part of it. Raises NothingToRestore.
    """
    text = _as_meant(text, opened)
    if os.path.isabs(text):
        path = opened.roots.place_path(text)
        if path is None:
            raise NothingToRestore(
                f"{text} is not in the game folder {opened.roots.game_folder}",
                hint="Name the file relative to the game folder, for example 'data/sea.dat'.",
            )
        return path
    if root_of(PlacePath(text)) in opened.roots.outside:
        if fault := fault_in_relative(text[1:]):
            raise NothingToRestore(f"{text!r} cannot be used: {fault}")
        return PlacePath(text.rstrip("/"))
    relative = os.path.normpath(text.removeprefix(GAME + "/")).replace(os.sep, "/")
    if relative in (".", GAME):
        return PlacePath(GAME)
    if relative.startswith("../") and fault_in_relative(relative):
        raise NothingToRestore(
            f"{text} leads out of the game folder",
            hint="Name the file relative to the game folder, for example 'data/sea.dat'.",
        )
    return PlacePath(f"{GAME}/{relative}")
