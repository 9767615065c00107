"""Preview and apply: the line-up's layers over the baseline, planned against the folder as it is."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

from rellum.core.change.activities import refuse_activities
from rellum.core.change.backing_up import back_up
from rellum.core.change.execute import execute
from rellum.core.change.journal import PackChange
from rellum.core.change.opening import open_pack
from rellum.core.change.preparing import Preparing, Preview
from rellum.core.change.request import Request
from rellum.core.composing.answers import Answers, Asking
from rellum.core.durable import write_durably
from rellum.core.notices import inform
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, pack_texts
from rellum.core.pack.lock_file import lock_text, write_lock
from rellum.core.pack.new_state import write_vanilla
from rellum.core.pack.pack_edits import changed_text
from rellum.core.pack.pack_files import PackFiles
from rellum.core.pack.pending_follow import settle_pending
from rellum.core.pack.reread_rules import read_rules_anew
from rellum.core.pack.session import Session
from rellum.core.shelf.store import Shelf


@dataclass(frozen=True, slots=True, kw_only=True)
class ApplyResult:
    """What was done. ``done`` is False where the user said no."""

    preview: Preview
    done: bool
    originals_folder: str


def preview(
    request: Request,
    *,
    sweep: bool = False,
    take_update: bool = False,
    newest: Collection[str] = (),
) -> Preview:
    """Plan, and change nothing. ``sweep``: also set left-overs of older releases aside.

    ``take_update``: changed vanilla files are an update of the game, though its version is the same.
    ``newest``: mods whose release need not stay as it is; the others stay where they can.

    Raises UnknownMod, NoLineUp, NoLineUpExists, MissingArchives, PlacingFault, CannotLay, FolderOwned.
    """
    with (
        open_pack(request) as opened,
        Shelf(request.shelf_folder) as shelf,
        Preparing(
            opened,
            shelf,
            sweep,
            take_update=take_update,
            newest=newest,
            listen=request.listen,
        ) as preparing,
    ):
        return preparing.preview()


def apply(
    request: Request,
    confirm: Callable[[Preview], bool],
    asking: Asking | None = None,
    *,
    sweep: bool = False,
    take_update: bool = False,
    newest: Collection[str] = (),
) -> ApplyResult:
    """Plan, ask, and carry the plan out. ``sweep``, ``take_update`` and ``newest`` as in ``preview``.

    ``asking`` are asked what is open and the pack does not say; the pack remembers it. Raises what
    ``preview`` does, UnsettledFolder, UnsettledSettings, NoSpace, RolledBack.
    """
    with (
        open_pack(request) as opened,
        Shelf(request.shelf_folder) as shelf,
    ):
        refuse_activities(opened.home, opened.state, "apply")
        with Preparing(
            opened,
            shelf,
            sweep,
            take_update=take_update,
            newest=newest,
            listen=request.listen,
        ) as preparing:
            planned = preparing.decided(asking)
            done = not (planned.plan.visible or planned.rebase) or confirm(planned)
            if done and not planned.plan.is_empty:
                site = opened.site._replace(listen=request.listen, roots=preparing.roots)
                pack = _pack_change(opened, planned, preparing.answers)
                for each in planned.broken_saves:
                    _keep_saves(opened, each.backup_name)
                execute(planned.plan, "apply", site, preparing.workshop, pack)
                read_rules_anew(
                    PackFiles(opened.home), opened.state, opened.rules
                )  # all of it is at hand here
        if done and planned.rebase:
            write_vanilla(opened.home, opened.state)
        if done and planned.plan.is_empty:  # nothing to change in the folder
            if said := preparing.answers.by_table():
                write_durably(
                    opened.home.pack_file, changed_text(opened.home, None, said).encode("utf-8")
                )
            if planned.made_anew:
                write_lock(opened.home, planned.lock)
        if done:
            opened.state.note_idle(planned.lock.names)
            settle_pending(opened.home)
        folder = opened.home.originals_folder
        return ApplyResult(preview=planned, done=done, originals_folder=folder)


def _keep_saves(opened: Session, name: str) -> None:
    """Make a backup with a name before a release that does not open these saves. Raises BackupFault."""
    kept = back_up(
        opened.home, opened.rules, opened.state, opened.roots, "apply", name, always=True
    )
    inform(f"Backup {kept.number} {name!r} has the saves as they were.")


def _pack_change(opened: Session, planned: Preview, answers: Answers) -> PackChange:
    """The folder is made by rellum.toml with what was decided, and by the line-up that was planned with."""
    texts = dict(pack_texts(opened.home))
    texts[LOCK_FILE] = lock_text(planned.lock)
    writes = [LOCK_FILE]
    said = answers.by_table()
    if planned.rebase or said:
        now = planned.rebase.now if planned.rebase else None
        texts[PACK_FILE] = changed_text(opened.home, now, said)
        writes.append(PACK_FILE)
    return PackChange(becoming=tuple(texts.items()), writes=tuple(writes), by_last_change=True)
