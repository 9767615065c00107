"""Checkpoints: make them, list them, and go back to one."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from rellum.core.actions.mend.restore import drifted_paths
from rellum.core.change.activities import refuse_activities
from rellum.core.change.execute import execute
from rellum.core.change.journal import PackChange
from rellum.core.change.keeping import keep_settings, settings_paths
from rellum.core.change.looking import drift_of, with_causes
from rellum.core.change.opening import open_pack
from rellum.core.change.plan import Plan
from rellum.core.change.players_warnings import BrokenSaves, broken_saves
from rellum.core.change.readiness import Space, space_for
from rellum.core.change.request import Request
from rellum.core.change.rewinding import Look, Rewinder
from rellum.core.change.staging import NoSources
from rellum.core.change.supplies import supplies, supply_contents, supply_from_stores
from rellum.core.errors import RellumError, UserError
from rellum.core.nearest import nearest
from rellum.core.pack.checkpoints import Checkpoint
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, pack_texts
from rellum.core.pack.lock_file import read_lock_text
from rellum.core.pack.marker import refuse_other_owner
from rellum.core.pack.session import Session
from rellum.core.pack.state import now
from rellum.core.pack.state_change import Before, PackTexts
from rellum.core.pack.variants import parked_by
from rellum.core.values.paths import PlacePath, shown
from rellum.core.words import count_words


class NoCheckpoint(UserError):
    """There is no checkpoint of that name, or none at all."""

    code = "no-checkpoint"


class NeedsOldGame(UserError):
    """A checkpoint is of another version of the game, whose files are not at hand."""

    code = "needs-old-game"


class BadName(UserError):
    """A checkpoint cannot have that name."""

    code = "bad-name"


class NameTaken(UserError):
    """Another checkpoint has that name."""

    code = "name-taken"


class Rewinding(NamedTuple):
    """What ``rewind`` would do. ``texts`` names those of the pack's files that become others.

    What is not as it was then, and stays as it is: ``stays`` are the user's own files, ``newer`` settings
    that came since, and ``foreign`` files of no owner that may or may not have been there. ``broken_saves``
    are saves that the releases of then do not open.
    """

    checkpoint: Checkpoint
    plan: Plan
    space: Space
    texts: tuple[str, ...]
    stays: tuple[PlacePath, ...]
    newer: tuple[PlacePath, ...]
    foreign: tuple[PlacePath, ...]
    broken_saves: tuple[BrokenSaves, ...] = ()

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to do."""
        return self.plan.is_empty and not self.texts

    @property
    def changes_nothing(self) -> bool:
        """Whether no file but Rellum's own marker would change; the player's own stay anyway."""
        return not (self.plan.visible or self.texts or self.plan.left_alone)


class Made(NamedTuple):
    """A checkpoint that was made, and files that were not as Rellum had left them: it does not have those."""

    checkpoint: Checkpoint
    drifted: tuple[PlacePath, ...]


class RewindResult(NamedTuple):
    """What was done. ``done`` is False where the user said no."""

    rewinding: Rewinding
    done: bool
    originals_folder: str


Confirm = Callable[[Rewinding], bool]


def make_checkpoint(request: Request, name: str, good: bool) -> Made:
    """Make a checkpoint of what is now. Raises BadName, NameTaken."""
    if name.isdigit() or name != name.strip() or not name.isprintable():
        raise BadName(
            f"a checkpoint cannot be called {name!r}",
            hint="Choose a name that is not just a number, such as 'before-the-storm'.",
        )
    with open_pack(request) as opened:
        checkpoints = opened.state.checkpoints
        before = Before(settings=keep_settings(opened.site), pack_texts=pack_texts(opened.home))
        taken = checkpoints.named(name)
        if taken and not checkpoints.is_newest(taken.number, before):
            raise NameTaken(
                f"checkpoint {taken.number} of {taken.made_at} has the name {name!r}",
                hint=f"Choose another name, or free this one: rellum checkpoint --forget {name!r}",
            )
        opened.state.refuse_unfit()
        number = checkpoints.make(name, good, before, now())
        made = next(each for each in checkpoints.all() if each.number == number)
        drift = drift_of(opened)
    gone = (each.path for each in drift.findings if each.kind != "foreign")
    return Made(made, tuple(gone))


def forget_checkpoint(request: Request, name: str) -> Checkpoint:
    """Take the name and the mark off a checkpoint, by name or number. Raises NoCheckpoint."""
    with open_pack(request) as opened:
        checkpoints = opened.state.checkpoints
        chosen = _choose(checkpoints.all(), name, False)
        opened.state.refuse_unfit()
        checkpoints.unname(chosen.number)
        return chosen


def list_checkpoints(request: Request) -> list[Checkpoint]:
    """Return all checkpoints, the newest first."""
    with open_pack(request) as opened:
        return opened.state.checkpoints.all()


def rewind(
    request: Request,
    name: str,
    good: bool,
    confirm: Confirm,
    source: str = "",
    *,
    with_carried: bool = False,
) -> RewindResult:
    """Go back to a checkpoint: by name or number, the last ``good`` one, or (neither) the last change.

    Contents come from the store of originals, from archives on the shelf, from edits made again, and from
    ``source``: a folder or an archive with what is kept nowhere, such as the files of an older version of
    the game. The user's own files stay as they are unless ``with_carried``.

    Raises NeedsOldGame, NoCheckpoint, CannotLay, FolderOwned, NoSpace, RolledBack.
    """
    with open_pack(request) as opened:
        refuse_other_owner(opened.roots, opened.home, opened.adopted.pack_id)
        refuse_activities(opened.home, opened.state, "rewind")
        with supplies(opened):
            return _way(opened, request, name, good, source, with_carried).go(confirm)


def _way(
    opened: Session, request: Request, name: str, good: bool, source: str, with_carried: bool
) -> _Way:
    """Return the way to the checkpoint that is meant.

    Where none is named, changes that left all as it was before them (a hunt, a repair of what was right) are
    passed over: to undo them would do nothing.
    """
    checkpoints = opened.state.checkpoints.all()
    while True:
        chosen = _choose(checkpoints, name, good)
        way = _Way(opened, chosen, source, request.shelf_folder, with_carried)
        older = [each for each in checkpoints if each.number < chosen.number and each.ended_by]
        if name or good or not older or not way.rewinding.changes_nothing:
            return way
        checkpoints = older


class _Way:
    """The way back to one checkpoint."""

    def __init__(
        self,
        opened: Session,
        chosen: Checkpoint,
        source: str,
        shelf_folder: str,
        with_carried: bool,
    ) -> None:
        self.opened = opened
        self.chosen = chosen
        self.then = opened.state.checkpoints.then(chosen.number)
        self.source = source
        self.shelf_folder = shelf_folder
        self.drift = with_causes(drift_of(opened), opened)
        rules = opened.rules
        look = Look(
            drifted=drifted_paths(self.drift, opened.state),
            suspects=opened.state.suspects(),
            is_carried=rules.path_rules.test(rules.carried),
            with_carried=with_carried,
            shared=rules.shared,
        )
        store = opened.site.originals
        self.is_carried = look.is_carried
        self.rewinder = Rewinder(self.then, opened.state, opened.roots, store.has, look)

    @cached_property
    def rewinding(self) -> Rewinding:
        """What would be done."""
        opened = self.opened
        self._gather()
        plan = self.rewinder.plan()
        self._refuse_other_game(plan)
        return Rewinding(
            checkpoint=self.chosen,
            plan=plan,
            space=space_for(plan, opened.home, opened.roots),
            texts=tuple(_differing(self.then.pack_texts, opened)),
            stays=tuple(self.rewinder.stays),
            newer=tuple(self._newer_settings(plan)),
            foreign=tuple(self._foreign(plan)),
            broken_saves=self._broken_saves(),
        )

    def go(self, confirm: Confirm) -> RewindResult:
        """Ask, and carry it out."""
        opened, rewinding = self.opened, self.rewinding
        plan = rewinding.plan
        done = rewinding.is_empty or confirm(rewinding)
        if done and not rewinding.is_empty:
            pack = PackChange(
                becoming=self.then.pack_texts,
                writes=(PACK_FILE, LOCK_FILE),
                others=parked_by(opened.home, self.then.pack_texts),
            )
            execute(plan, "rewind", opened.site, NoSources(), pack)
        if done and plan.identity:
            from rellum.core.pack.new_state import write_vanilla

            write_vanilla(opened.home, opened.state)
        folder = opened.home.originals_folder
        return RewindResult(rewinding=rewinding, done=done, originals_folder=folder)

    def _broken_saves(self) -> tuple[BrokenSaves, ...]:
        """Return what the cards say of saves; nothing where the cards or the line-up cannot be read."""
        text = dict(self.then.pack_texts).get(LOCK_FILE)
        lock = read_lock_text(text, LOCK_FILE) if text else None
        if lock is None or not {*lock.names} - {*self.opened.state.releases_laid()}:
            return ()
        try:
            catalog = self.opened.files.catalog
        except RellumError:
            return ()
        return tuple(broken_saves(lock, catalog, self.opened.state, self.opened.home))

    def _gather(self) -> None:
        """Bring what is missing into the store, from wherever it can be had."""
        wanted = self.rewinder.wanted()
        if not wanted:
            return
        if self.source:
            supply_contents(self.opened, self.source, {**self.rewinder.unders(), **wanted})
        supply_from_stores(self.opened, self.shelf_folder, wanted)
        store = self.opened.site.originals
        if any(not store.has(each.digest) for each in wanted.values()):
            from rellum.core.change.remaking import remake

            remake(self.opened, self.then, self.shelf_folder, wanted)

    def _refuse_other_game(self, plan: Plan) -> None:
        """Refuse to go back over an update of the game without the old version's files."""
        updated = {each.path for each in self.drift.findings if each.cause == "game-update"}
        lost = [p for p, _ in plan.left_alone if p in self.then.vanilla or p in updated]
        if lost:
            raise NeedsOldGame(
                f"checkpoint {self.chosen.number} is of game {self.chosen.version}, of which "
                f"{count_words(len(lost), 'file is', 'files are')} kept nowhere",
                details=tuple(f"missing: {shown(path)}" for path in lost[:10]),
                hint=f"Name a copy of {self.chosen.version}, a folder or an archive, by --from.",
            )

    def _newer_settings(self, plan: Plan) -> Iterator[PlacePath]:
        """Yield settings that the checkpoint does not know: they came since."""
        handled = {each.path for each in plan.operations} | set(self.then.laid)
        site = self.opened.site
        for path in settings_paths(site.state, site.roots, site.players_places):
            known = path in self.then.settings or path in self.then.files or path in handled
            if (
                not known
                and not self.is_carried(path)
                and os.path.exists(site.roots.absolute(path))
            ):
                yield path

    def _foreign(self, plan: Plan) -> Iterator[PlacePath]:
        handled = {each.path for each in plan.operations}
        for each in self.drift.findings:
            if each.kind == "foreign" and each.path not in handled:
                yield each.path
        # What was a mod's or the game's until now, and stands there as nobody's.
        freed = list(plan.forgotten)
        freed += [path for path, row in self.then.vanilla.items() if row is None]
        for path in dict.fromkeys(freed):
            absolute = self.opened.roots.absolute(path)
            is_file = os.path.lexists(absolute) and not os.path.isdir(absolute)
            if is_file and path not in handled and self.rewinder.becomes_nobodys(path):
                yield path


def _differing(texts: PackTexts, opened: Session) -> list[str]:
    then, now_there = dict(texts), dict(pack_texts(opened.home))
    return [name for name in (PACK_FILE, LOCK_FILE) if then.get(name) != now_there.get(name)]


def _choose(checkpoints: Sequence[Checkpoint], name: str, good: bool) -> Checkpoint:
    if not checkpoints:
        raise NoCheckpoint(
            "there are no checkpoints yet",
            hint="Each change of the game makes one; 'rellum checkpoint' makes one on demand.",
        )
    if good:
        found = next((each for each in checkpoints if each.good), None)
        if found is None:
            raise NoCheckpoint(
                "no checkpoint is marked good",
                hint="Mark one when the game runs well: 'rellum checkpoint --good'.",
            )
        return found
    if not name:
        # One that nothing changed after is what is there now.
        return next((each for each in checkpoints if each.ended_by), checkpoints[0])
    for each in checkpoints:
        if name in (each.name, str(each.number)):
            return each
    names = [each.name for each in checkpoints if each.name]
    raise NoCheckpoint(
        f"there is no checkpoint {name!r}" + nearest(name, names),
        hint="'rellum checkpoint --list' lists them.",
    )
