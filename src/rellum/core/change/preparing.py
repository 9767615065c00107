"""Preparing a change of the game by a line-up: its target composed, its plan made, what is open asked."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import NamedTuple, Self

from rellum.core.catalog.load import find_mod
from rellum.core.catalog.model import GameSheet, Trial
from rellum.core.change.looking import warn_of_unfit
from rellum.core.change.operations import source_of
from rellum.core.change.plan import Plan
from rellum.core.change.players_warnings import BrokenSaves, broken_saves, moved_settings
from rellum.core.change.readiness import Space, space_for
from rellum.core.change.rebasing import Rebase, find_rebase, with_rebase
from rellum.core.change.setting_aside import new_sweep_folder
from rellum.core.change.target_plans import plan_target
from rellum.core.composing.answers import Answers, Asking, refuse_open
from rellum.core.composing.file_maker import FileMaker
from rellum.core.composing.grafting import trials_against
from rellum.core.composing.layering import Layers, LineUpInputs, find_layers
from rellum.core.composing.leftovers import find_leftovers
from rellum.core.composing.line_up import current_line_up, line_up_of
from rellum.core.composing.load_order_file import gone_entries, with_load_order
from rellum.core.composing.needed import release_of
from rellum.core.composing.profiles import of_profile, still_named
from rellum.core.composing.settling import SettingsConflict, settle
from rellum.core.composing.taking_out import Without, contents, without_edits
from rellum.core.composing.wanted import LeftOver, TheUsers
from rellum.core.composing.winners import winners_of
from rellum.core.composing.workshop import Workshop
from rellum.core.errors import RellumError
from rellum.core.hashing import Digest
from rellum.core.layers.model import Brought, Layer, Target
from rellum.core.layers.slot_shapes import Shape
from rellum.core.layers.target import lay_over
from rellum.core.layers.wrappers import SameName
from rellum.core.pack.lock_file import LockFile
from rellum.core.pack.marker import marker_bytes, refuse_other_owner
from rellum.core.pack.outside import (
    refuse_one_name,
    refuse_second_names,
    refuse_unknown_places,
    roots_of,
)
from rellum.core.pack.session import Session
from rellum.core.pack.trials_file import read_pack_trials
from rellum.core.progress import Listener, silent
from rellum.core.shelf.store import Shelf
from rellum.core.values.ids import ModId, ReleaseName
from rellum.core.values.paths import PlacePath, Roots, file_of, is_in_game, root_of


class NewPlace(NamedTuple):
    """A folder outside the game, and the one that its place was ``before``; empty: it is the first."""

    root: str
    folder: str
    before: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Preview:
    """What ``apply`` would do. ``made_anew``: rellum.toml changed since the line-up was made, or newer
    releases were asked for (``newest``); ``is_first``: there was no line-up yet.

    ``settings`` are files in which the user and a release changed the same keys; ``same_names`` folders that
    would come into one of the same name; ``shapes`` tell how grafts fit their slots, and ``graft_trials``
    which of them broke before. ``leftovers`` are files of older releases, which go only where that is asked
    for. ``notes`` tell how releases are laid, by owner. ``rebase`` is what an update of the game made of it.
    ``new_places`` are folders outside the game that are written to for the first time, or in the place of
    another. ``prereleases`` are newer than what was asked for ``newest``. ``by_hand`` are conditions of
    releases that come in, which a person has to look at. ``broken_saves`` are saves that the new releases do
    not open; ``profiles`` are other profiles of the game that name mods which go.
    """

    lock: LockFile
    made_anew: bool
    plan: Plan
    target: Target
    space: Space
    settings: tuple[SettingsConflict, ...] = ()
    same_names: tuple[SameName, ...] = ()
    shapes: tuple[Shape, ...] = ()
    notes: tuple[tuple[ReleaseName, str], ...] = ()
    graft_trials: tuple[Trial, ...] = ()
    leftovers: tuple[LeftOver, ...] = ()
    rebase: Rebase | None = None
    by_hand: tuple[tuple[str, str], ...] = ()
    new_places: tuple[NewPlace, ...] = ()
    broken_saves: tuple[BrokenSaves, ...] = ()
    profiles: tuple[tuple[str, tuple[str, ...]], ...] = ()
    is_first: bool = False
    newest: tuple[str, ...] = ()
    prereleases: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Composed:
    """A line-up put together: its layers, the target tree, and settings in which there are conflicts."""

    line_up: LineUpInputs
    made_anew: bool
    target: Target
    settings: tuple[SettingsConflict, ...]
    layers: Layers


class Preparing:
    """A pack with its catalog and line-up, and a workshop that is open for as long as this is."""

    def __init__(
        self,
        opened: Session,
        shelf: Shelf,
        sweeps: bool,
        *,
        take_update: bool = False,
        as_noted: bool = False,
        as_locked: bool = False,
        newest: Collection[str] = (),
        listen: Listener = silent,
    ) -> None:
        """``as_noted``: the game is what the state says, whatever the folder holds. ``as_locked``: the
        line-up is the one in rellum.lock, whatever rellum.toml asks for.

        ``newest``: mods whose release need not stay as the line-up has it.
        """
        self.sweeps = sweeps
        self.newest = newest
        self.as_locked = as_locked
        self.answers = Answers()
        refuse_other_owner(opened.roots, opened.home, opened.adopted.pack_id)
        self.pack = opened.files.pack
        self.catalog = opened.files.catalog
        sheet = self.catalog.sheet
        self.rebase = None if as_noted else find_rebase(opened, sheet, forced=take_update)
        if self.rebase:
            # Planned on a copy of the state: the real one changes once the user has said yes.
            opened = opened._replace(state=opened.state.rehearsal(self.rebase.change))
        self.opened = opened
        self._side_of = self.answers.side_of(self.pack, sheet)
        self.roots = roots_of(opened, sheet, self.pack)
        sheet = of_profile(sheet, self.pack, self.roots)
        self.catalog = replace(self.catalog, sheet=sheet)
        self.workshop = Workshop(opened, shelf, self.roots, sheet.path_rules, listen=listen)

    def __enter__(self) -> Self:
        self.workshop.__enter__()
        with suppress(RellumError):  # a shelf that can only be read loses nothing
            self.workshop.shelf.index.add_pack(self.opened.home.folder)
        return self

    def __exit__(self, *error: object) -> None:
        self.workshop.close()
        if self.rebase:
            self.opened.state.close()

    def compose(self) -> Composed:
        """Return the target tree of the line-up. Raises what ``preview`` does, but for planning."""
        catalog, pack = self.catalog, self.pack
        lock, made_anew = self._line_up(self.workshop.shelf)
        line_up = LineUpInputs(
            lock=lock,
            pack=pack,
            catalog=catalog,
            workshop=self.workshop,
            known=self.answers.known_folders(self.opened.state, pack, catalog.sheet),
        )
        making = FileMaker(self.workshop, catalog.sheet)
        found = find_layers(line_up)
        refuse_unknown_places(_paths_of(found.layers, catalog.sheet), self.roots, catalog.sheet)
        target = lay_over(
            found.layers,
            making,
            winners_of(pack, catalog),
            catalog.sheet.path_rules,
        )
        refuse_second_names(target.files, self.roots)
        refuse_one_name(target.files, self.roots)
        mods = _mods_of(line_up)
        target, settings = settle(target, self.workshop, self._side_of, mods)
        owners = [layer.owner for layer in found.layers]
        target = with_load_order(target, owners, self.workshop, catalog.sheet)
        return Composed(
            line_up=line_up, made_anew=made_anew, target=target, settings=settings, layers=found
        )

    def preview(self) -> Preview:
        """Plan, and change nothing."""
        opened = self.opened
        composed = self.compose()
        if not composed.made_anew and not self.rebase:
            warn_of_unfit(opened)
        line_up, target = composed.line_up, composed.target
        marker = marker_bytes(opened.home, opened.adopted.pack_id)
        users = _the_users(line_up, _mods_of(line_up))
        leftovers = find_leftovers(line_up, target, self.roots, users.is_carried)
        if self.sweeps and leftovers:
            users = replace(
                users,
                swept=tuple(each.path for each in leftovers),
                swept_to=new_sweep_folder(opened.home.swept_folder),
            )
        without = self._without_edits(target)
        settings = (*composed.settings, *self._open_conflicts(without))
        taken_out = contents(without)
        has = opened.site.originals.has
        plan = plan_target(target, marker, opened.state, self.roots, users, has, taken_out)
        plan = moved_settings(line_up.lock, self.catalog, plan, opened.state, self.roots)
        self.workshop.assure(_asked_for(plan, has))
        if self.rebase:
            plan = with_rebase(plan, self.rebase)
        space = space_for(plan, opened.home, self.roots)
        return Preview(
            lock=line_up.lock,
            made_anew=composed.made_anew,
            is_first=opened.files.lock_if_any is None,
            newest=tuple(self.newest),
            prereleases=tuple(self._prereleases(line_up.lock)),
            plan=plan,
            target=target,
            space=space,
            settings=settings,
            same_names=composed.layers.same_names,
            shapes=composed.layers.shapes,
            notes=composed.layers.notes,
            leftovers=leftovers,
            rebase=self.rebase,
            by_hand=tuple(_conditions(line_up)),
            profiles=tuple(self._other_profiles(target)),
            broken_saves=tuple(broken_saves(line_up.lock, self.catalog, opened.state, opened.home)),
            new_places=tuple(_new_places(plan, self.roots, opened.state.outside())),
            graft_trials=tuple(trials_against(self.pack.grafts, read_pack_trials(opened.home))),
        )

    def _prereleases(self, lock: LockFile) -> Iterator[tuple[str, str]]:
        """Yield the newest pre-release of each mod that should be as new as can be, if it is newer."""
        locked = {each.mod: each for each in lock.releases}
        for mod in self.newest:
            card, chosen = self.catalog.mods.get(ModId(mod)), locked.get(ModId(mod))
            release = card.release_named(chosen.version, chosen.build) if card and chosen else None
            for each in card.releases if card and release else ():
                if release and each.version.is_prerelease and each.version > release.version:
                    yield mod, each.version.text
                    break

    def _other_profiles(self, target: Target) -> Iterator[tuple[str, tuple[str, ...]]]:
        """Yield the game's other profiles whose load order names mods that go."""
        sheet = self.catalog.sheet
        if sheet.load_order is not None and sheet.load_order.profiles is not None:
            gone = gone_entries(sheet, self.opened.state.laid(), target.files)
            yield from still_named(sheet.load_order, gone, self.roots)

    def _without_edits(self, target: Target) -> list[Without]:
        """Return what stays of files that mods edited and edit no longer."""
        state = self.opened.state
        going = [row for path, row in state.laid().items() if path not in target.files and row.base]
        vanilla = state.baseline([row.path for row in going])
        side = self._side_of
        return list(
            without_edits(
                going,
                self.opened.home,
                self.roots,
                vanilla.__contains__,
                lambda path: side(path) or "mine",
                self.opened.rules.settings_form,
            )
        )

    def _open_conflicts(self, without: Sequence[Without]) -> Iterator[SettingsConflict]:
        """Yield the keys of the user's own files that a mod had set and that were changed since."""
        side = self._side_of
        for each in without:
            if each.conflicts and not each.is_vanilla:
                path = each.laid.path
                yield SettingsConflict(
                    path=path,
                    owner=each.laid.owner,
                    is_going=True,
                    conflicts=each.conflicts,
                    side=side(path),
                )

    def _line_up(self, shelf: Shelf) -> tuple[LockFile, bool]:
        if self.as_locked:
            return self.opened.files.lock, False
        try:
            return line_up_for(self.opened, shelf, self.newest)
        except RellumError as error:
            if self.rebase:
                now = self.opened.state.identity().version
                raise error.with_hint(
                    f"The game was updated from {self.rebase.before.version} to {now}.\n"
                    "Or put its old files back: rellum restore --damaged --from COPY"
                ) from error
            raise

    def decided(self, asking: Asking | None) -> Preview:
        """Return the preview with all settled. Nothing is written before the plan is carried out.

        Raises UnsettledFolder, UnsettledSettings.
        """
        planned = self.preview()
        while asking and self.answers.ask(planned.same_names, planned.settings, asking):
            planned = self.preview()
        refuse_open(planned.same_names, planned.settings)
        return planned


def line_up_for(
    opened: Session, shelf: Shelf, newest: Collection[str] = ()
) -> tuple[LockFile, bool]:
    """Return the line-up that fits rellum.toml now, with the newest releases of some mods, and whether it is
    another than rellum.lock has. Raises UnknownMod, NoLineUp, NoLineUpExists.
    """
    pack, catalog = opened.files.pack, opened.files.catalog
    for mod in newest:
        find_mod(catalog, mod)
    if newest and opened.files.lock_if_any is not None:
        return line_up_of(opened, shelf, tuple(newest)), True
    return current_line_up(opened, pack, catalog, opened.state.identity(), shelf)


def _new_places(plan: Plan, roots: Roots, known: Mapping[str, str]) -> Iterator[NewPlace]:
    """Yield the folders outside the game that the plan touches, and the last change there did not."""
    touched = {root_of(each.path) for each in plan.operations if not is_in_game(each.path)}
    for root in sorted(touched):
        folder, before = roots.outside[root], known.get(root, "")
        if folder != before:
            yield NewPlace(root, folder, before)


def _asked_for(plan: Plan, has: Callable[[Digest], bool]) -> Iterator[Brought]:
    """Yield the files whose content the plan will ask for."""
    for each in plan.operations:
        source = source_of(each)
        if source is not None and not isinstance(source, bytes):
            yield source
    yield from (each for each in plan.bases if not has(each.digest))


def _paths_of(layers: Sequence[Layer], sheet: GameSheet) -> Iterator[PlacePath]:
    for layer in layers:
        yield from (file_of(file.path) for file in layer.files if not is_in_game(file.path))
        yield from layer.folders
        yield from (file_of(change.edit.path) for change in layer.edits)
    if sheet.load_order:
        yield sheet.load_order.path


def _conditions(line_up: LineUpInputs) -> Iterator[tuple[str, str]]:
    """Yield what a person has to look at, of releases that come in or change."""
    laid = {each.mod: each.version for each in line_up.workshop.opened.state.releases_laid()}
    for locked in line_up.lock.releases:
        release = release_of(locked, line_up.catalog)
        if release and laid.get(locked.mod) != locked.version:
            yield from ((release.name, note) for note in release.check_by_hand)


def _mods_of(line_up: LineUpInputs) -> frozenset[str]:
    """Return the mods of the line-up, and its grafts."""
    return frozenset(
        [locked.mod for locked in line_up.lock.releases]
        + [graft.name for graft in line_up.pack.grafts]
    )


def _the_users(line_up: LineUpInputs, mods: frozenset[str]) -> TheUsers:
    """Return what is the user's own by the sheet, or by a release of the line-up."""
    sheet = line_up.catalog.sheet
    patterns = list(sheet.players_own)
    for locked in line_up.lock.releases:
        release = release_of(locked, line_up.catalog)
        patterns += release.carry if release else ()
    return TheUsers(
        is_carried=sheet.path_rules.test(patterns),
        shared=frozenset(sheet.places.values()),
        mods=mods,
    )
