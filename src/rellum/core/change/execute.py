"""Carrying out a plan: stage what is new, keep what goes, make the journal ready, finish or undo.

The order is the journal's contract (``rellum.core.change.journal``).
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterable, Sequence

from rellum.core import last_word
from rellum.core.change.activities import refuse_activities
from rellum.core.change.backing_up import WITH_OWN_BACKUP, back_up_before
from rellum.core.change.carry_out import (
    carry_out,
    clean_up,
    flush_files,
    settle,
    spare_roots,
    undo,
)
from rellum.core.change.journal import (
    PACK_STAYS,
    Journal,
    PackChange,
    append_ready,
    write_begin,
)
from rellum.core.change.journaling import bases_before, journal_of, records_only
from rellum.core.change.keeping import keep_settings
from rellum.core.change.plan import Plan
from rellum.core.change.readiness import (
    refuse_no_folder,
    refuse_unready,
    refuse_without_room,
    space_for,
)
from rellum.core.change.running import refuse_running
from rellum.core.change.staging import Sources, stage
from rellum.core.errors import BegunOnly, ChangeFailed, RellumError
from rellum.core.last_word import Standing
from rellum.core.notices import note
from rellum.core.pack.home import pack_texts
from rellum.core.pack.originals import ChangedUnseen, FolderChanged
from rellum.core.pack.site import Site
from rellum.core.pack.standing import note_suspect
from rellum.core.pack.state import new_id
from rellum.core.pack.state_change import PackTexts
from rellum.core.values.content import Content
from rellum.core.values.paths import GAME, PlacePath, Roots, root_of, shown


class RolledBack(ChangeFailed):
    """The work failed part-way; everything is as it was before."""

    code = "rolled-back"


class StillBroken(BegunOnly):
    """The work failed, and so did taking it back; the next command goes on with that."""

    code = "still-broken"


class Unsettled(BegunOnly):
    """A change is carried out in the game; rellum.toml, or what was swept, is not yet as it goes with it."""

    code = "unsettled"


class Interrupted(RolledBack):
    """Somebody stopped the work; everything is as it was before."""

    code = "interrupted"
    exit_status = 130


def execute(
    plan: Plan, action: str, site: Site, sources: Sources, pack: PackChange = PACK_STAYS
) -> None:
    """Carry out a plan; what is now becomes a checkpoint, and ``pack`` of the pack's texts.

    Raises GameRunning, CannotWrite, NoSpace, UnderWay before anything is touched; RolledBack, StillBroken.
    """
    roots = _roots_touched(plan, site.roots)
    refuse_unready(roots)
    site.state.refuse_unfit()
    refuse_activities(site.home, site.state, action)
    if plan.operations and not site.even_if_running:
        refuse_running([roots.game_folder])
    if plan.swept_to:
        refuse_no_folder(os.path.dirname(plan.swept_to))
    refuse_without_room(space_for(plan, site.home, site.roots))
    if plan.operations and not plan.is_found and action not in WITH_OWN_BACKUP:
        back_up_before(action, site)
    journal = Journal(
        id=new_id(),
        action=action,
        roots=roots,
        pack_id=site.state.adopted().pack_id,
        made_for_roots=tuple(_missing_folders(roots.outside.values())),
        brings=tuple(each.digest for each in plan.bases),
        pack=pack,
        standing=_standing_texts(pack, site),
        baseline=plan.baseline,
        identity=plan.identity,
        others_folders=plan.others_folders,
        swept_to=plan.swept_to,
        swept=plan.swept,
        stood=plan.stood,
        kept_gone=plan.kept_gone,
        unsure=plan.unsure,
        modes=plan.modes,
        guarded=plan.guarded,
        spent=plan.spent,
        is_found=plan.is_found,
    )
    folder_changes = plan.operations or plan.new_folders or plan.spare_folders or plan.modes
    if not (folder_changes or pack.writes or pack.others):
        _record_only(plan, journal, site, sources)
        return
    last_word.say(Standing.BEGUN)
    try:
        write_begin(site.home.journal_file, journal, site.disk)
        journal = _prepare(plan, journal, site, sources)
        append_ready(site.home.journal_file, journal, site.disk)
        carry_out(journal, site)
    except BaseException as error:
        if not _is_recorded(error, journal, site):
            raise _taken_back(error, journal, site) from error
        if not isinstance(error, Exception):
            raise
    _end(journal, site)


def _end(journal: Journal, site: Site) -> None:
    """Do what comes after a change is recorded. Raises Unsettled where that fails."""
    try:
        settle(journal, site)
    except (OSError, RellumError, sqlite3.Error) as error:
        raise Unsettled(
            f"{journal.action} was carried out in the game, but not completely outside it: {_words(error)}",
            hint="Nothing is lost. Fix the cause; the next Rellum command on this pack continues.",
        ) from error
    last_word.say(Standing.DONE)
    try:
        clean_up(journal, site, is_recorded=True, spare=spare_roots(journal))
    except (OSError, RellumError, sqlite3.Error) as error:
        note(
            f"could not remove some temporary files: {_words(error)}; the next command removes them"
        )


def _record_only(plan: Plan, journal: Journal, site: Site, sources: Sources) -> None:
    """Record a plan that changes nothing in the folder."""
    _keep_bases(plan, site, sources)
    journal = journal._replace(settings=keep_settings(site))
    before = set(bases_before(plan, site.state))
    noted = records_only(plan, journal.action)
    site.state.record(
        journal.state_change()._replace(
            id=noted.id,
            laid=noted.laid,
            no_longer_laid=noted.no_longer_laid,
            kept=noted.kept,
        )
    )
    site.originals.let_go(sorted(before - set(site.state.needed_counts())))


def _standing_texts(pack: PackChange, site: Site) -> PackTexts | None:
    """Return the texts for the checkpoint, None for those of the last change, where these are known."""
    if pack.by_last_change and site.state.checkpoints.texts_in_force():
        return None
    return pack_texts(site.home)


def _roots_touched(plan: Plan, roots: Roots) -> Roots:
    """Return the game folder and those places outside of it in which the plan does something."""
    touched = {root_of(each.path) for each in plan.operations}
    touched |= {root_of(each.path) for each in plan.noted}
    touched |= {root_of(path) for path in plan.forgotten}
    touched |= {root_of(folder) for folder in (*plan.new_folders, *plan.spare_folders)}
    touched |= {root_of(path) for path, _, _ in plan.modes}
    outside = {root: each for root, each in roots.outside.items() if root in touched}
    return Roots(roots.game_folder, outside)


def _missing_folders(folders: Iterable[str]) -> list[str]:
    """Return the folders that are not there, and those above them, the outer first."""
    missing: set[str] = set()
    for folder in folders:
        while not os.path.isdir(folder):
            missing.add(folder)
            folder = os.path.dirname(folder)
    return sorted(missing, key=len)


def _is_recorded(error: BaseException, journal: Journal, site: Site) -> bool:
    """Whether a change that failed is recorded all the same. Raises StillBroken where nobody can know."""
    try:
        return journal.is_ready and site.state.has_change(journal.id)
    except sqlite3.Error as second:
        raise StillBroken(
            f"{journal.action} failed: {_words(error)}; whether it was recorded cannot be read: {second}",
            hint="Nothing is lost. Fix the cause; the next Rellum command on this pack continues.",
        ) from error


def _taken_back(error: BaseException, journal: Journal, site: Site) -> BaseException:
    """Undo what was begun, and return the error to raise."""
    reason = error.summary if isinstance(error, RellumError) else _words(error)
    hint = error.hint if isinstance(error, RellumError) else ""
    try:
        undo(journal, site)
    except (OSError, RellumError, sqlite3.Error) as second:
        return StillBroken(
            f"{journal.action} failed: {reason}; taking it back failed too: {_words(second)}",
            hint="Nothing is lost. Fix the cause; the next Rellum command on this pack continues.",
        )
    last_word.say(Standing.UNTOUCHED)
    if isinstance(error, KeyboardInterrupt):
        return Interrupted(
            f"{journal.action} was interrupted and taken back",
            hint="The game folder is as it was before.",
        )
    if not isinstance(error, Exception):
        return error
    return RolledBack(
        f"{journal.action} failed and was taken back: {reason}",
        hint=hint or "The game folder is as it was before. Fix the cause and try again.",
    )


def _words(error: BaseException) -> str:
    if isinstance(error, RellumError):
        return error.summary
    if isinstance(error, OSError) and error.strerror:
        where = f": {error.filename}" if error.filename else ""
        return f"{error.strerror}{where}"
    return f"{type(error).__name__}: {error}"


def _prepare(plan: Plan, journal: Journal, site: Site, sources: Sources) -> Journal:
    """Stage all that is new and keep all that goes, verified and flushed."""
    disk, roots = site.disk, journal.roots
    for folder in journal.made_for_roots:
        disk.make_folder(folder)
    for staging in journal.stagings():
        disk.make_folder(staging)
    disk.make_folder(site.home.originals_folder)
    if not plan.is_found:
        journal = journal._replace(settings=keep_settings(site))
    staged = {
        each.path: f"{number:07}" for number, each in enumerate(plan.operations) if each.after
    }
    kept_paths = [
        _keep(each.path, each.found.content, site, roots)
        for each in plan.operations
        if each.found.content
    ]
    stage(plan, journal, staged, site, sources)
    files = {
        path: os.path.join(journal.staging_of(path), name) for path, name in staged.items()
    } or {PlacePath(GAME): journal.staging_of(PlacePath(GAME))}
    flush_files(files, roots, disk)
    _flush_originals([*kept_paths, *_put_bases(plan, site, sources)], site)
    journal = journal._replace(bases_before=bases_before(plan, site.state))
    return journal_of(plan, journal, staged)


def _keep(path: PlacePath, before: Content, site: Site, roots: Roots) -> str:
    """Put what stands at a path into the store; return where it lies there.

    A file that is not what its size and time said is hashed by every command from then on. Raises
    ChangedUnseen, FolderChanged.
    """
    file = roots.absolute(path)
    try:
        return site.originals.put(file, before.digest)
    except FolderChanged as error:
        status = os.lstat(file)
        if (status.st_size, status.st_mtime_ns) != (before.size, before.mtime_ns):
            raise
        note_suspect(site.state, path, file)
        raise ChangedUnseen(
            f"{shown(path)} was changed, though its size and time were not",
            hint="Rellum noted this. Run the command again, and it keeps a copy of the file. "
            "'rellum check --deep' finds all such files.",
        ) from error


def _keep_bases(plan: Plan, site: Site, sources: Sources) -> None:
    if plan.bases:
        site.disk.make_folder(site.home.originals_folder)
        _flush_originals(_put_bases(plan, site, sources), site)


def _put_bases(plan: Plan, site: Site, sources: Sources) -> list[str]:
    """Put what releases wanted of merged files into the store, if it is new; return where it lies."""
    store = site.originals
    new = (each for each in plan.bases if not store.is_whole(each.digest))
    return [store.put_copy(sources.file(each), each.digest) for each in new]


def _flush_originals(paths: Sequence[str], site: Site) -> None:
    store = site.home.originals_folder
    if paths:
        site.disk.flush(store, paths, [store, os.path.dirname(store)])
