"""Checkpoints: making them, listing them, and going back to one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from rellum.core.actions.open_pack import OnRecovered, OpenPack, open_pack
from rellum.core.change.disk import Disk
from rellum.core.change.execute import NoSources, execute
from rellum.core.change.journal import PackChange
from rellum.core.change.keeping import keep_settings
from rellum.core.change.plan import Plan
from rellum.core.change.readiness import Space, space_for
from rellum.core.change.rewinding import plan_rewind
from rellum.core.errors import UserError
from rellum.core.nearest import nearest
from rellum.core.pack.checkpoints import Before, Checkpoint, PackTexts, Then
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, pack_texts
from rellum.core.pack.marker import refuse_other_owner
from rellum.core.pack.state import now
from rellum.core.paths import shown


class NoCheckpoint(UserError):
    """There is no checkpoint of that name, or none at all."""

    code = "no-checkpoint"


class NeedsOldGame(UserError):
    """A checkpoint is of another version of the game, whose files are not at hand."""

    code = "needs-old-game"


class BadName(UserError):
    """A checkpoint cannot have that name."""

    code = "bad-name"


class Rewinding(NamedTuple):
    """What ``rewind`` would do. ``texts`` names those of the pack's files that become others."""

    checkpoint: Checkpoint
    plan: Plan
    space: Space
    texts: tuple[str, ...]

    @property
    def is_empty(self) -> bool:
        """Whether all is as it was."""
        return self.plan.is_empty and not self.texts


class RewindResult(NamedTuple):
    """What was done. ``done`` is False where the user said no."""

    rewinding: Rewinding
    done: bool
    originals_folder: str


Confirm = Callable[[Rewinding], bool]


def make_checkpoint(
    pack_folder: str, name: str, good: bool, on_recovered: OnRecovered, disk: Disk | None = None
) -> Checkpoint:
    """Make a checkpoint of what is now. Raises BadName."""
    if name.isdigit() or name != name.strip() or not name.isprintable():
        raise BadName(
            f"a checkpoint cannot be called {name!r}",
            hint="Give it a name that is more than a number, such as 'before-the-storm'.",
        )
    with open_pack(pack_folder, on_recovered, disk) as opened:
        before = Before(settings=keep_settings(opened.site), pack_texts=pack_texts(opened.home))
        checkpoints = opened.state.checkpoints
        number = checkpoints.make(name, good, before, now())
        return next(each for each in checkpoints.all() if each.number == number)


def list_checkpoints(pack_folder: str, on_recovered: OnRecovered) -> list[Checkpoint]:
    """Return all checkpoints, the newest first."""
    with open_pack(pack_folder, on_recovered) as opened:
        return opened.state.checkpoints.all()


def rewind(
    pack_folder: str,
    name: str,
    good: bool,
    on_recovered: OnRecovered,
    confirm: Confirm,
    disk: Disk | None = None,
    source: str = "",
    *,
    even_if_running: bool = False,
) -> RewindResult:
    """Go back to a checkpoint: by name or number, the last ``good`` one, or (neither) the last change.

    ``source``: a folder or an archive with what is kept nowhere, such as the files of an older version of
    the game.

    Raises NeedsOldGame, NoCheckpoint, CannotLay, FolderOwned, NoSpace, RolledBack.
    """
    with open_pack(pack_folder, on_recovered, disk, even_if_running=even_if_running) as opened:
        refuse_other_owner(opened.roots, opened.home, opened.adopted.pack_id)
        if not source:
            return _rewind(opened, name, good, confirm, source)
        from rellum.core.actions.supplies import let_go_of_rest

        try:
            return _rewind(opened, name, good, confirm, source)
        finally:
            let_go_of_rest(opened)


def _rewind(opened: OpenPack, name: str, good: bool, confirm: Confirm, source: str) -> RewindResult:
    checkpoints = opened.state.checkpoints
    chosen = _choose(checkpoints.all(), name, good)
    then = checkpoints.then(chosen.number)
    if source:
        from rellum.core.actions.supplies import supply_contents

        wanted = {path: content for path, content in then.files.items() if content}
        supply_contents(opened, source, wanted)
    plan = plan_rewind(then, opened.state, opened.roots, opened.site.originals.has)
    _refuse_other_game(plan, then, chosen)
    rewinding = Rewinding(
        checkpoint=chosen,
        plan=plan,
        space=space_for(plan, opened.home, opened.roots),
        texts=tuple(_differing(then.pack_texts, opened)),
    )
    done = rewinding.is_empty or confirm(rewinding)
    if done and not rewinding.is_empty:
        pack = PackChange(becoming=then.pack_texts, writes=(PACK_FILE, LOCK_FILE))
        execute(plan, "rewind", opened.site, NoSources(), pack)
    if done and plan.identity:
        from rellum.core.pack.new_state import write_vanilla

        write_vanilla(opened.home, opened.state)
    folder = opened.home.originals_folder
    return RewindResult(rewinding=rewinding, done=done, originals_folder=folder)


def _refuse_other_game(plan: Plan, then: Then, chosen: Checkpoint) -> None:
    """Refuse to go back over an update of the game without the old version's files."""
    lost = [path for path, _ in plan.left_alone if path in then.vanilla]
    if lost:
        raise NeedsOldGame(
            f"checkpoint {chosen.number} is of game {chosen.version}, of which "
            f"{len(lost):,} files are kept nowhere",
            details=tuple(f"missing: {shown(path)}" for path in lost[:10]),
            hint=f"Name a copy of {chosen.version}, a folder or an archive, by --from.",
        )


def _differing(texts: PackTexts, opened: OpenPack) -> list[str]:
    then, now_there = dict(texts), dict(pack_texts(opened.home))
    return [name for name in (PACK_FILE, LOCK_FILE) if then.get(name) != now_there.get(name)]


def _choose(checkpoints: Sequence[Checkpoint], name: str, good: bool) -> Checkpoint:
    if not checkpoints:
        raise NoCheckpoint(
            "there is no checkpoint yet",
            hint="Each change of the game makes one; 'rellum checkpoint' makes one by hand.",
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
        hint="'rellum checkpoint --list' shows them all.",
    )
