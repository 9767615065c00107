"""Carrying out a plan: stage what is new, keep what goes, make the journal ready, finish or undo.

The order is the journal's contract (``rellum.core.change.journal``).
"""

from __future__ import annotations

import os
import sqlite3
import time
from collections import Counter
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Protocol

from rellum.core.change.carry_out import finish, flush_files, undo
from rellum.core.change.disk import Disk
from rellum.core.change.journal import (
    PACK_STAYS,
    Journal,
    PackChange,
    append_ready,
    write_begin,
)
from rellum.core.change.journaling import bases_before, journal_of, records_only
from rellum.core.change.keeping import keep_settings
from rellum.core.change.originals import ChangedUnseen, FolderChanged
from rellum.core.change.plan import Plan
from rellum.core.change.readiness import refuse_unready, refuse_without_room, space_for
from rellum.core.change.running import refuse_running
from rellum.core.change.site import Site
from rellum.core.change.standing import note_suspect
from rellum.core.errors import ChangeFailed, RellumError
from rellum.core.folder.content import Content
from rellum.core.hashing import Digest, hash_file
from rellum.core.pack.checkpoints import PackTexts
from rellum.core.pack.home import pack_texts
from rellum.core.pack.state import State, new_id
from rellum.core.paths import GAME, PlacePath, Roots, root_of, shown
from rellum.core.progress import Progress

if TYPE_CHECKING:
    from rellum.core.archives.model import Archive, Extraction
    from rellum.core.layers.model import Brought


class RolledBack(ChangeFailed):
    """The work failed part-way; everything is as it was before."""

    code = "rolled-back"


class StillBroken(ChangeFailed):
    """The work failed, and so did taking it back; the next command goes on with that."""

    code = "still-broken"


class Sources(Protocol):
    """Where what layers bring comes from."""

    def archive(self, digest: Digest) -> Archive:
        """Return an archive of the shelf."""

    def file(self, brought: Brought) -> str:
        """Return a file on disk with that content; one that was made may be moved away."""


class NoSources:
    """For changes that bring nothing but what lies in the originals."""

    def archive(self, digest: Digest) -> Archive:
        """Return nothing: nobody may ask."""
        raise AssertionError(f"this change unpacks nothing, yet asks for {digest}")

    def file(self, brought: Brought) -> str:
        """Return nothing: nobody may ask."""
        raise AssertionError(f"this change makes nothing, yet asks for {brought.path}")


def execute(
    plan: Plan, action: str, site: Site, sources: Sources, pack: PackChange = PACK_STAYS
) -> None:
    """Carry out a plan; what is now becomes a checkpoint, and ``pack`` of the pack's texts.

    Raises GameRunning, CannotWrite, NoSpace before anything is touched; RolledBack, StillBroken.
    """
    roots = _roots_touched(plan, site.roots)
    refuse_unready(roots)
    if plan.operations and not site.even_if_running:
        refuse_running([roots.game_folder])
    refuse_without_room(space_for(plan, site.home, site.roots))
    journal = Journal(
        id=new_id(),
        action=action,
        roots=roots,
        made_for_roots=tuple(_missing_folders(roots.outside.values())),
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
    )
    folder_changes = plan.operations or plan.new_folders or plan.spare_folders or plan.modes
    if not (folder_changes or pack.writes):
        _record_only(plan, journal, site, sources)
        return
    try:
        write_begin(site.home.journal_file, journal, site.disk)
        journal = _prepare(plan, journal, site, sources)
        append_ready(site.home.journal_file, journal, site.disk)
        finish(journal, site)
    except BaseException as error:
        if not _is_recorded(journal, site):
            raise _taken_back(error, journal, site) from error
        # All is in place and recorded; what is left of the clean-up is the next command's.
        if not isinstance(error, Exception):
            raise


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
    touched |= {root_of(each.path) for each in plan.records}
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


def _is_recorded(journal: Journal, site: Site) -> bool:
    try:
        return journal.is_ready and site.state.has_change(journal.id)
    except sqlite3.Error:
        return False


def _taken_back(error: BaseException, journal: Journal, site: Site) -> BaseException:
    """Undo what was begun, and return the error to raise."""
    reason = error.summary if isinstance(error, RellumError) else _words(error)
    hint = error.hint if isinstance(error, RellumError) else ""
    try:
        undo(journal, site)
    except (OSError, RellumError, sqlite3.Error) as second:
        return StillBroken(
            f"{journal.action} failed: {reason}; taking it back failed too: {_words(second)}",
            hint="Nothing is lost. Mend the cause; the next Rellum command on this pack goes on.",
        )
    if isinstance(error, KeyboardInterrupt):
        return RolledBack(
            f"{journal.action} was interrupted and taken back",
            hint="The game folder is as it was before.",
        )
    if not isinstance(error, Exception):
        return error
    return RolledBack(
        f"{journal.action} failed and was taken back: {reason}",
        hint=hint or "The game folder is as it was before. Mend the cause and try again.",
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
    journal = journal._replace(settings=keep_settings(site))
    staged = {
        each.path: f"{number:07}" for number, each in enumerate(plan.operations) if each.after
    }
    kept_paths = [
        _keep(each.path, each.before, site, roots) for each in plan.operations if each.before
    ]
    if any(not isinstance(each.source, bytes | None) for each in plan.operations):
        _stage_brought(plan, journal, staged, site, sources)
    _stage_others(plan, journal, staged, site)
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
            hint="That is noted: call the command again, and a copy of the file is kept. "
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


def _stage_brought(
    plan: Plan, journal: Journal, staged: dict[PlacePath, str], site: Site, sources: Sources
) -> None:
    """Stage what layers bring: members of archives, and files that were made or lie somewhere."""
    # Imported here: a plan that only brings originals back needs no archive.
    from rellum.core.archives.model import Extraction
    from rellum.core.layers.model import LayerFile

    jobs: dict[Digest, list[Extraction]] = {}
    for each in plan.operations:
        if each.after is None or each.source is None or isinstance(each.source, bytes):
            continue
        target = os.path.join(journal.staging_of(each.path), staged[each.path])
        if isinstance(each.source, LayerFile):
            jobs.setdefault(each.source.archive, []).append(
                Extraction(
                    member=each.source.member.stored_as,
                    digest=each.after.digest,
                    target=target,
                    mode=each.after.mode,
                )
            )
        else:
            _stage_file(each.source, target, each.after, site.disk, sources)
    archives = {digest: sources.archive(digest) for digest in jobs}
    whole = Progress(
        stage="unpacking",
        files=0,
        total_files=sum(map(len, jobs.values())),
        bytes=0,
        total_bytes=sum(each.after.size for each in plan.operations if each.after and each.source),
    )
    for digest, its_jobs in jobs.items():
        whole = _extract(site, archives[digest], its_jobs, whole)


def _stage_file(
    brought: Brought, target: str, after: Content, disk: Disk, sources: Sources
) -> None:
    """Stage a file that lies on disk: one made for this is moved; any other is copied."""
    from rellum.core.layers.model import MadeFile

    file = sources.file(brought)
    if isinstance(brought, MadeFile):
        disk.move_or_copy(file, target)
    else:
        disk.copy(file, target)
        if hash_file(target) != after.digest:
            raise FolderChanged(
                f"{file} changed while Rellum worked",
                hint="Close whatever writes to it, then try again.",
            )
    disk.set_mode_and_time(target, after.mode, time.time_ns())


def _extract(site: Site, archive: Archive, jobs: list[Extraction], whole: Progress) -> Progress:
    """Unpack one archive, reporting progress over all; return how far the whole is then."""
    last = whole

    def listen(part: Progress) -> None:
        nonlocal last
        last = whole._replace(files=whole.files + part.files, bytes=whole.bytes + part.bytes)
        site.listen(last)

    site.disk.extract(archive, jobs, listen)
    return last


def _stage_others(plan: Plan, journal: Journal, staged: dict[PlacePath, str], site: Site) -> None:
    """Stage small texts, and what comes back out of the store of originals."""
    still_needed = _needed_after(plan, site.state)
    uses = Counter(each.after.digest for each in plan.operations if each.after and not each.source)
    for each in plan.operations:
        if each.after is None:
            continue
        target = os.path.join(journal.staging_of(each.path), staged[each.path])
        if isinstance(each.source, bytes):
            site.disk.write_new(target, each.source, each.after.mode)
        elif each.source is None:
            digest = each.after.digest
            keep = uses[digest] > 1 or digest in still_needed
            site.originals.bring_out(digest, target, name=shown(each.path), keep=keep)
            site.disk.set_mode_and_time(target, each.after.mode, each.after.mtime_ns)


def _needed_after(plan: Plan, state: State) -> set[Digest]:
    """Return the contents that the store must still hold once the plan is carried out."""
    paths = [each.path for each in plan.operations if not each.lays]
    released = [laid.under.digest for laid in state.laid(paths).values() if laid.under]
    counts = state.needed_counts()
    for digest in released:
        counts[digest] = counts.get(digest, 0) - 1
    kept = {each.before.digest for each in plan.operations if each.before and each.keep}
    kept |= {each.kept_base for each in plan.operations if each.kept_base and each.aside_for}
    laid_over = {each.under.digest for each in plan.operations if each.under}
    noted = {each.under.digest for each in plan.records if each.under}
    bases = {each.digest for each in plan.bases}
    wanted = kept | laid_over | noted | bases | {each.digest for each in plan.kept_too}
    return {digest for digest, count in counts.items() if count > 0} | wanted
