"""Staging: every new file of a plan is laid beside its place, verified, before anything is replaced."""

from __future__ import annotations

import os
import time
from collections import Counter
from collections.abc import Mapping
from typing import TYPE_CHECKING, Protocol

from rellum.core.change.journal import (
    Journal,
)
from rellum.core.change.operations import lays, source_of, under_after
from rellum.core.change.plan import Plan
from rellum.core.hashing import Digest, hash_file
from rellum.core.pack.disk import Disk
from rellum.core.pack.originals import FolderChanged, OriginalDamaged
from rellum.core.pack.site import Site
from rellum.core.pack.state import State
from rellum.core.progress import Progress
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath, shown

if TYPE_CHECKING:
    from rellum.core.archives.model import Archive, Extraction
    from rellum.core.layers.model import Brought


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


def stage(
    plan: Plan, journal: Journal, staged: dict[PlacePath, str], site: Site, sources: Sources
) -> None:
    """Stage every new file of a plan."""
    store = _Store(plan, site)
    if any(not isinstance(source_of(each), bytes | None) for each in plan.operations):
        _stage_brought(plan, journal, staged, store, sources)
    _stage_others(plan, journal, staged, store)


def _stage_brought(
    plan: Plan,
    journal: Journal,
    staged: dict[PlacePath, str],
    store: _Store,
    sources: Sources,
) -> None:
    """Stage what layers bring: members of archives, and files that were made or lie somewhere."""
    # Imported here: a plan that only brings originals back needs no archive.
    from rellum.core.archives.model import Extraction
    from rellum.core.layers.model import LayerFile

    jobs: dict[Digest, list[Extraction]] = {}
    site = store.site
    for each in plan.operations:
        source = source_of(each)
        if each.after is None or source is None or isinstance(source, bytes):
            continue
        target = os.path.join(journal.staging_of(each.path), staged[each.path])
        if not isinstance(source, LayerFile):
            _stage_file(source, target, each.after, site.disk, sources)
        elif not store.gives(each.path, each.after, target):
            jobs.setdefault(source.archive, []).append(
                Extraction(
                    member=source.member.stored_as,
                    digest=each.after.digest,
                    target=target,
                    mode=each.after.mode,
                )
            )
    archives = {digest: sources.archive(digest) for digest in jobs}
    whole = Progress(
        stage="unpacking",
        files=0,
        total_files=sum(map(len, jobs.values())),
        bytes=0,
        total_bytes=sum(
            each.after.size for each in plan.operations if each.after and source_of(each)
        ),
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
                hint="Close the program that writes to it, then try again.",
            )
    disk.set_mode_and_time(target, after.mode, after.mtime_ns or time.time_ns())


def _extract(site: Site, archive: Archive, jobs: list[Extraction], whole: Progress) -> Progress:
    """Unpack one archive, reporting progress over all; return how far the whole is then."""
    last = whole

    def listen(part: Progress) -> None:
        nonlocal last
        last = whole._replace(files=whole.files + part.files, bytes=whole.bytes + part.bytes)
        site.listen(last)

    site.disk.extract(archive, jobs, listen)
    return last


def _stage_others(
    plan: Plan, journal: Journal, staged: dict[PlacePath, str], store: _Store
) -> None:
    """Stage small texts, and what comes back out of the store of originals."""
    for each in plan.operations:
        if each.after is None:
            continue
        target = os.path.join(journal.staging_of(each.path), staged[each.path])
        source = source_of(each)
        if isinstance(source, bytes):
            store.site.disk.write_new(target, source, each.after.mode)
        elif source is None:
            store.bring_out(each.path, each.after, target)


class _Store:
    """The store of originals, as one plan uses it."""

    def __init__(self, plan: Plan, site: Site) -> None:
        self.site = site
        self.held = site.state.needed_counts()
        self.needed_after = _needed_after(plan, site.state, self.held)
        self.uses = Counter(each.after.digest for each in plan.operations if each.after)

    def bring_out(self, path: PlacePath, after: Content, target: str) -> None:
        """Stage a content of the store; a copy where the store needs its own.

        Raises OriginalDamaged, OSError.
        """
        digest = after.digest
        keep = self.uses[digest] > 1 or digest in self.needed_after
        self.site.originals.bring_out(digest, target, name=shown(path), keep=keep)
        self.site.disk.set_mode_and_time(target, after.mode, after.mtime_ns or time.time_ns())

    def gives(self, path: PlacePath, after: Content, target: str) -> bool:
        """Stage what an archive brings from the store, which has it when a variant comes back.

        Nothing is staged where the store does not have it whole: the archive does.
        """
        if after.digest not in self.held or not self.site.originals.has(after.digest):
            return False
        try:
            self.bring_out(path, after, target)
        except OriginalDamaged:
            if os.path.lexists(target):
                self.site.disk.remove(target)
            return False
        return True


def _needed_after(plan: Plan, state: State, held: Mapping[Digest, int]) -> set[Digest]:
    """Return the contents that the store must still hold once the plan is carried out."""
    paths = [each.path for each in plan.operations if not lays(each)]
    released = [laid.under.digest for laid in state.laid(paths).values() if laid.under]
    counts = dict(held)
    lies_again = {
        each.path: each.after.digest
        for each in plan.operations
        if each.after and lays(each) and source_of(each) is not None and each.after.digest in held
    }
    if lies_again:  # what lies where a checkpoint has it needs no copy
        released += [
            digest for path, digest in state.checkpoints.files() if lies_again.get(path) == digest
        ]
    for digest in released:
        counts[digest] = counts.get(digest, 0) - 1
    kept = {
        each.found.content.digest for each in plan.operations if each.keep and each.found.content
    }
    kept |= {each.keep.base for each in plan.operations if each.keep and each.keep.base}
    unders = (under_after(each) for each in plan.operations)
    laid_over = {under.digest for under in unders if under}
    noted = {each.under.digest for each in plan.noted if each.under}
    bases = {each.digest for each in plan.bases}
    wanted = kept | laid_over | noted | bases | {each.digest for each in plan.kept_too}
    return {digest for digest, count in counts.items() if count > 0} | wanted
