"""Carrying out a plan: stage what is new, keep what goes, make the journal ready, finish or undo.

The order is the journal's contract (``rellum.core.change.journal``).
"""

from __future__ import annotations

import os
import shutil
import sqlite3
import stat
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from rellum.core.change.carry_out import finish, undo
from rellum.core.change.journal import Journal, Step, append_ready, write_begin
from rellum.core.change.plan import Plan
from rellum.core.change.site import Site
from rellum.core.errors import ChangeFailed, RellumError, UserError
from rellum.core.folder.content import Content, Laid
from rellum.core.folder.stamps import STAGING_NAME
from rellum.core.hashing import Digest
from rellum.core.pack.home import PackHome
from rellum.core.pack.state import Kept, State, StateChange, new_id
from rellum.core.paths import PlacePath, Roots, shown
from rellum.core.progress import Progress

if TYPE_CHECKING:
    from rellum.core.archives.model import Archive, Extraction


class NoSpace(UserError):
    """The disk has too little room for the change."""

    code = "no-space"


class RolledBack(ChangeFailed):
    """The work failed part-way; everything is as it was before."""

    code = "rolled-back"


class StillBroken(ChangeFailed):
    """The work failed, and so did taking it back; the next command goes on with that."""

    code = "still-broken"


class CannotWrite(UserError):
    """The game folder cannot be written."""

    code = "cannot-write"


OpenArchive = Callable[[Digest], "Archive"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Space:
    """Bytes that a plan needs on the game's disk (and for originals on the pack's), and has."""

    needed: int
    free: int


def space_for(plan: Plan, home: PackHome, roots: Roots) -> Space:
    """Return the space for new files, and for originals that must be copied to another disk."""
    new = sum(each.after.size for each in plan.operations if each.after and each.source)
    game, pack = os.stat(roots.game_folder), os.stat(home.state_folder)
    free = shutil.disk_usage(roots.game_folder).free
    if game.st_dev == pack.st_dev:
        return Space(needed=new, free=free)
    copied = sum(each.before.size for each in plan.operations if each.before)
    back = sum(each.after.size for each in plan.operations if each.after and not each.source)
    pack_free = shutil.disk_usage(home.state_folder).free
    if copied > pack_free:
        return Space(needed=copied, free=pack_free)
    return Space(needed=new + back, free=free)


def execute(plan: Plan, action: str, site: Site, open_archive: OpenArchive) -> None:
    """Carry out a plan. Raises NoSpace before anything is touched, RolledBack, StillBroken."""
    _refuse_unready(site.roots)
    space = space_for(plan, site.home, site.roots)
    if space.needed > space.free:
        raise NoSpace(
            f"the change needs {space.needed:,} bytes, and the disk has {space.free:,} free",
            hint="Nothing was changed. Make room and try again.",
        )
    if not (plan.operations or plan.new_folders or plan.spare_folders):
        site.state.record(_records_only(plan, action))
        return
    journal = Journal(
        id=new_id(),
        action=action,
        game_folder=site.roots.game_folder,
        staging=os.path.join(site.roots.game_folder, STAGING_NAME),
    )
    try:
        write_begin(site.home.journal_file, journal, site.disk)
        journal = _prepare(plan, journal, site, open_archive)
        append_ready(site.home.journal_file, journal, site.disk)
        finish(journal, site)
    except BaseException as error:
        if not _is_recorded(journal, site):
            raise _taken_back(error, journal, site) from error
        # All is in place and recorded; what is left of the clean-up is the next command's.
        if not isinstance(error, Exception):
            raise


def _refuse_unready(roots: Roots) -> None:
    """Refuse a folder that cannot be written, or where something stands in the way of staging."""
    if not os.access(roots.game_folder, os.W_OK):
        raise CannotWrite(
            f"the game folder {roots.game_folder} cannot be written",
            hint="Nothing was changed. Change its rights, or connect its disk for writing.",
        )
    staging = os.path.join(roots.game_folder, STAGING_NAME)
    if os.path.lexists(staging):
        raise CannotWrite(
            f"{staging} is in the way: Rellum works in a folder of that name and always removes it",
            hint="Nothing was changed. Look what is in it, move it away, and try again.",
        )


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


def _prepare(plan: Plan, journal: Journal, site: Site, open_archive: OpenArchive) -> Journal:
    """Stage all that is new and keep all that goes, verified and flushed."""
    disk, roots = site.disk, site.roots
    disk.make_folder(journal.staging)
    disk.make_folder(site.home.originals_folder)
    staged = {
        each.path: f"{number:07}" for number, each in enumerate(plan.operations) if each.after
    }
    kept_paths = [
        site.originals.put(roots.absolute(each.path), each.before.digest)
        for each in plan.operations
        if each.before
    ]
    if any(not isinstance(each.source, bytes | None) for each in plan.operations):
        _stage_members(plan, journal.staging, staged, site, open_archive)
    _stage_others(plan, journal.staging, staged, site)
    staged_paths = [os.path.join(journal.staging, name) for name in staged.values()]
    disk.flush(roots.game_folder, staged_paths, [journal.staging, roots.game_folder])
    if kept_paths:
        store = site.home.originals_folder
        disk.flush(store, kept_paths, [store, os.path.dirname(store)])
    return _journal_of(plan, journal, staged)


def _stage_members(
    plan: Plan, staging: str, staged: dict[PlacePath, str], site: Site, open_archive: OpenArchive
) -> None:
    # Imported here: a plan that only brings originals back needs no archive.
    from rellum.core.archives.model import Extraction

    jobs: dict[Digest, list[Extraction]] = {}
    for each in plan.operations:
        if each.after and each.source is not None and not isinstance(each.source, bytes):
            jobs.setdefault(each.source.archive, []).append(
                Extraction(
                    member=each.source.member.path,
                    digest=each.after.digest,
                    target=os.path.join(staging, staged[each.path]),
                    mode=each.after.mode,
                )
            )
    archives = {digest: open_archive(digest) for digest in jobs}
    whole = Progress(
        stage="unpacking",
        files=0,
        total_files=sum(map(len, jobs.values())),
        bytes=0,
        total_bytes=sum(each.after.size for each in plan.operations if each.after and each.source),
    )
    for digest, its_jobs in jobs.items():
        whole = _extract(site, archives[digest], its_jobs, whole)


def _extract(site: Site, archive: Archive, jobs: list[Extraction], whole: Progress) -> Progress:
    """Unpack one archive, reporting progress over all; return how far the whole is then."""
    last = whole

    def listen(part: Progress) -> None:
        nonlocal last
        last = replace(whole, files=whole.files + part.files, bytes=whole.bytes + part.bytes)
        site.listen(last)

    site.disk.extract(archive, jobs, listen)
    return last


def _stage_others(plan: Plan, staging: str, staged: dict[PlacePath, str], site: Site) -> None:
    """Stage small texts, and what comes back out of the store of originals."""
    still_needed = _needed_after(plan, site.state)
    uses = Counter(each.after.digest for each in plan.operations if each.after and not each.source)
    for each in plan.operations:
        if each.after is None:
            continue
        target = os.path.join(staging, staged[each.path])
        if isinstance(each.source, bytes):
            site.disk.write_new(target, each.source, each.after.mode)
        elif each.source is None:
            digest = each.after.digest
            keep = uses[digest] > 1 or digest in still_needed
            site.originals.bring_out(digest, target, name=shown(each.path), keep=keep)
            site.disk.set_mode_and_time(target, each.after.mode, each.after.mtime_ns)


def _needed_after(plan: Plan, state: State) -> set[Digest]:
    """Return the contents that the store must still hold once the plan is carried out."""
    paths = [each.path for each in plan.operations if not each.after or each.source is None]
    released = [laid.under.digest for laid in state.laid(paths).values() if laid.under]
    counts = state.needed_counts()
    for digest in released:
        counts[digest] = counts.get(digest, 0) - 1
    kept = {each.before.digest for each in plan.operations if each.before and each.keep}
    laid_over = {each.under.digest for each in plan.operations if each.under}
    noted = {each.under.digest for each in plan.records if each.under}
    return {digest for digest, count in counts.items() if count > 0} | kept | laid_over | noted


def _journal_of(plan: Plan, journal: Journal, staged: dict[PlacePath, str]) -> Journal:
    """Put a plan into a journal, with what staging made of each file."""
    steps, laid, gone, kept = [], [], [], []
    for each in plan.operations:
        after = None
        if each.after:
            after = _as_staged(os.path.join(journal.staging, staged[each.path]), each.after)
        steps.append(
            Step(path=each.path, before=each.before, after=after, staged=staged.get(each.path, ""))
        )
        if after and each.source is not None:
            laid.append(
                Laid(path=each.path, owner=each.after_owner, content=after, under=each.under)
            )
        else:
            gone.append(each.path)
        if each.keep and each.before:
            kept.append(Kept(path=each.path, digest=each.before.digest, size=each.before.size))
    noted = _records_only(plan, journal.action)
    return replace(
        journal,
        steps=tuple(steps),
        new_folders=plan.new_folders,
        spare_folders=plan.spare_folders,
        laid=(*laid, *noted.laid),
        no_longer_laid=(*gone, *noted.no_longer_laid),
        kept=tuple(kept),
        is_ready=True,
    )


def _as_staged(path: str, content: Content) -> Content:
    status = os.lstat(path)
    return replace(
        content,
        size=status.st_size,
        mode=stat.S_IMODE(status.st_mode),
        mtime_ns=status.st_mtime_ns,
    )


def _records_only(plan: Plan, action: str) -> StateChange:
    return StateChange(
        id=new_id(),
        action=action,
        laid=tuple(
            Laid(path=each.path, owner=each.owner, content=each.content, under=each.under)
            for each in plan.records
            if each.content
        ),
        no_longer_laid=tuple(each.path for each in plan.records if not each.content),
        kept=(),
        new_folders=(),
        gone_folders=(),
    )
