"""Contents that the store of originals lacks, from wherever they can be had.

A clean copy of the game or a backup (a folder or an archive); wherever else the pack keeps contents
(backups, rescued and swept files); and the archives on the shelf, by their members' hashes. What is found is
put into the store for the change that needs it; the rest goes again afterwards.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING

from rellum.core.errors import RellumError, UserError
from rellum.core.hashing import Digest, hash_file, sha256_file
from rellum.core.pack.home import PackHome
from rellum.core.pack.session import Session
from rellum.core.progress import Listener, silent
from rellum.core.values.content import PLAIN_MODE, SHA256, UNKNOWN_SIZE, Content
from rellum.core.values.paths import PlacePath, Roots, is_in_game

if TYPE_CHECKING:
    from rellum.core.archives.model import Archive

# Readers of archives, and the shelf, are imported where something is taken from them: mostly nothing is.


class NoSupply(UserError):
    """The source of originals is neither a folder nor an archive, or cannot be read."""

    code = "no-supply"


Wanted = Mapping[PlacePath, Content]
"""Contents that are wanted, by the path that they are wanted for."""


def supply(
    opened: Session, source: str, paths: Iterable[PlacePath], listen: Listener = silent
) -> set[PlacePath]:
    """Put the vanilla contents of paths into the store of originals, where ``source`` has them.

    Each is taken only if its hash is the baseline's. Returns the paths that were found. Raises NoSupply,
    ArchiveFault, OSError.
    """
    wanted = {
        path: entry.content for path, entry in opened.state.baseline(paths).items() if entry.content
    }
    return supply_contents(opened, source, wanted, listen)


def supply_contents(
    opened: Session, source: str, wanted: Wanted, listen: Listener = silent
) -> set[PlacePath]:
    """Put contents into the store of originals, where ``source`` has them; see ``supply``."""
    store = opened.site.originals
    if not os.path.exists(source):
        raise NoSupply(
            f"{source} is neither a folder nor an archive",
            hint="Name a clean copy of the game, or an archive of one.",
        )
    try:
        _bring_in(opened, source, wanted, listen)
    except OSError as error:
        raise NoSupply(
            f"the originals in {source} cannot be taken in: {error.strerror or error}",
            hint="Nothing was changed. Fix that and try again.",
        ) from error
    return {path for path, content in wanted.items() if store.has(content.digest)}


def supply_from_stores(opened: Session, shelf_folder: str, wanted: Wanted) -> None:
    """Put contents into the store of originals that the pack keeps elsewhere, or that archives on the shelf,
    or members of them, have.

    A shelf that cannot be used has none. Raises OSError.
    """
    store, lacking = opened.site.originals, _missing(opened, wanted)
    for path, file in _kept_elsewhere(opened.home, lacking):
        opened.site.disk.make_folder(opened.home.originals_folder)
        store.put_copy(file, lacking[path].digest)
    missing = {each.digest for each in _missing(opened, wanted).values()}
    if not missing or not os.path.isdir(shelf_folder):
        return
    from rellum.core.shelf.store import Shelf

    try:
        with Shelf(shelf_folder) as shelf:
            for entry in shelf.index.all():
                if entry.digest in missing:  # it was laid packed
                    opened.site.disk.make_folder(opened.home.originals_folder)
                    opened.site.originals.put_copy(shelf.path_of(entry.digest), entry.digest)
                here = {member.digest for member in shelf.members(entry.digest)} & missing
                if here:
                    with suppress(RellumError):  # this archive is damaged: another may do
                        _extract_into_store(opened, shelf.open(entry.digest), here, silent)
                        missing -= here
    except UserError:
        return


def _kept_elsewhere(home: PackHome, wanted: Wanted) -> Iterator[tuple[PlacePath, str]]:
    """Yield contents that the pack keeps outside its store: by their hash, or by where they were swept from.

    Raises OSError.
    """
    names = os.listdir(home.state_folder) if wanted else []
    folders = [
        os.path.join(home.state_folder, each)
        for each in sorted(names)
        if each.startswith("rescued-")
    ]
    sweeps = os.listdir(home.swept_folder) if wanted and os.path.isdir(home.swept_folder) else []
    for path, content in wanted.items():
        files = [os.path.join(folder, content.digest) for folder in (*folders, home.backups_folder)]
        files += [os.path.join(home.swept_folder, sweep, *path[1:].split("/")) for sweep in sweeps]
        yield from [(path, file) for file in files if is_content(file, content)][:1]


@contextmanager
def supplies(opened: Session) -> Iterator[None]:
    """Remove, at the end, what was put into the store but not needed."""
    try:
        yield
    finally:
        let_go_of_rest(opened)


def let_go_of_rest(opened: Session) -> None:
    """Remove supplies that were not needed; if that fails, a later change does it."""
    with suppress(OSError):
        if not os.path.exists(opened.home.journal_file):
            opened.site.originals.let_go_of_all_but(opened.state.needed_counts())


def _missing(opened: Session, wanted: Wanted) -> dict[PlacePath, Content]:
    store = opened.site.originals
    return {path: c for path, c in wanted.items() if not store.is_whole(c.digest)}


def _bring_in(opened: Session, source: str, wanted: Wanted, listen: Listener) -> None:
    site = opened.site
    site.disk.make_folder(site.home.originals_folder)
    store = site.originals
    missing = _missing(opened, wanted)
    if os.path.isdir(source):
        for file in _in_folder(os.path.abspath(source), missing):
            digest = hash_file(file)
            if not store.is_whole(digest):
                store.put_copy(file, digest)
    else:
        from rellum.core.archives.open import open_archive

        digests = {c.digest for c in missing.values()}
        _extract_into_store(opened, open_archive(source), digests, listen)


def _in_folder(source: str, missing: Wanted) -> Iterator[str]:
    """Yield files of a folder with a content that is missing: at the same path, else of that name."""
    copy = Roots(source)
    by_name: dict[str, list[str]] | None = None
    for path, content in missing.items():
        direct = copy.absolute(path) if is_in_game(path) else ""
        if direct and is_content(direct, content):
            yield direct
            continue
        if by_name is None:
            by_name = _by_name(source)
        found = by_name.get(path.rpartition("/")[2].casefold(), ())
        yield from [file for file in found if is_content(file, content)][:1]


def is_content(file: str, content: Content) -> bool:
    """Whether a file has a content, which may be known by its hash alone. Raises OSError."""
    try:
        if os.path.islink(file) or not os.path.isfile(file):
            return False
        if content.size not in (UNKNOWN_SIZE, os.path.getsize(file)):
            return False
        if content.digest.startswith(SHA256):
            return sha256_file(file) == content.digest.removeprefix(SHA256)
        return hash_file(file) == content.digest
    except (FileNotFoundError, NotADirectoryError):
        return False


def _by_name(source: str) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for folder, _, names in os.walk(source):
        for name in names:
            found.setdefault(name.casefold(), []).append(os.path.join(folder, name))
    return found


def _extract_into_store(
    opened: Session, archive: Archive, digests: set[Digest], listen: Listener
) -> None:
    from rellum.core.archives.model import Extraction

    work = opened.home.work_folder
    shutil.rmtree(work, ignore_errors=True)
    os.makedirs(work)
    try:
        jobs: dict[Digest, Extraction] = {}
        for number, member in enumerate(archive.check(listen)):
            if member.digest in digests:
                target = os.path.join(work, f"{number:07}")
                jobs[member.digest] = Extraction(
                    member=member.stored_as, digest=member.digest, target=target, mode=PLAIN_MODE
                )
        archive.extract(list(jobs.values()), listen)
        site = opened.site
        site.disk.make_folder(site.home.originals_folder)
        for digest, job in jobs.items():
            site.originals.put_copy(job.target, digest)
    finally:
        shutil.rmtree(work, ignore_errors=True)
