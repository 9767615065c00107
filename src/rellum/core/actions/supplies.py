"""Originals from elsewhere: a clean copy of the game, or a backup, as a folder or an archive."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress

from rellum.core.actions.open_pack import OpenPack
from rellum.core.archives.model import Extraction
from rellum.core.archives.open import open_archive
from rellum.core.change.plan import PLAIN_MODE
from rellum.core.errors import UserError
from rellum.core.folder.content import Content
from rellum.core.hashing import Digest, hash_file
from rellum.core.paths import PlacePath, Roots, is_in_game
from rellum.core.progress import Listener, silent


class NoSupply(UserError):
    """What originals shall come from is no folder and no archive, or cannot be taken in."""

    code = "no-supply"


def supply(
    opened: OpenPack, source: str, paths: Iterable[PlacePath], listen: Listener = silent
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
    opened: OpenPack, source: str, wanted: Mapping[PlacePath, Content], listen: Listener = silent
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
            hint="Nothing was changed. Mend that and try again.",
        ) from error
    return {path for path, content in wanted.items() if store.has(content.digest)}


def let_go_of_rest(opened: OpenPack) -> None:
    """Let go of supplies that were not needed after all; where that fails, a later change does it."""
    with suppress(OSError):
        opened.site.originals.let_go_of_all_but(opened.state.needed_counts())


def _bring_in(
    opened: OpenPack, source: str, wanted: Mapping[PlacePath, Content], listen: Listener
) -> None:
    site = opened.site
    site.disk.make_folder(site.home.originals_folder)
    store = site.originals
    missing = {path: c for path, c in wanted.items() if not store.is_whole(c.digest)}
    if os.path.isdir(source):
        for digest, file in _in_folder(os.path.abspath(source), missing):
            if not store.is_whole(digest):
                store.put_copy(file, digest)
    else:
        _from_archive(opened, source, {c.digest for c in missing.values()}, listen)


def _in_folder(source: str, missing: Mapping[PlacePath, Content]) -> Iterator[tuple[Digest, str]]:
    """Yield files of a folder with a content that is missing: at the same path, else of that name."""
    copy = Roots(source)
    by_name: dict[tuple[str, int], list[str]] | None = None
    for path, content in missing.items():
        direct = copy.absolute(path) if is_in_game(path) else ""
        if direct and _is(direct, content):
            yield content.digest, direct
            continue
        if by_name is None:
            by_name = _by_name(source)
        key = (path.rpartition("/")[2].casefold(), content.size)
        for file in by_name.get(key, ()):
            if _is(file, content):
                yield content.digest, file
                break


def _is(file: str, content: Content) -> bool:
    try:
        return os.path.getsize(file) == content.size and hash_file(file) == content.digest
    except (FileNotFoundError, NotADirectoryError):
        return False


def _by_name(source: str) -> dict[tuple[str, int], list[str]]:
    found: dict[tuple[str, int], list[str]] = {}
    for folder, _, names in os.walk(source):
        for name in names:
            file = os.path.join(folder, name)
            if not os.path.islink(file):
                found.setdefault((name.casefold(), os.path.getsize(file)), []).append(file)
    return found


def _from_archive(opened: OpenPack, source: str, digests: set[Digest], listen: Listener) -> None:
    archive = open_archive(source)
    work = opened.home.work_folder
    shutil.rmtree(work, ignore_errors=True)
    os.makedirs(work)
    try:
        jobs: dict[Digest, Extraction] = {}
        for number, member in enumerate(archive.check(listen)):
            if member.digest in digests:
                target = os.path.join(work, f"{number:07}")
                jobs[member.digest] = Extraction(
                    member=member.path, digest=member.digest, target=target, mode=PLAIN_MODE
                )
        archive.extract(list(jobs.values()), listen)
        for digest, job in jobs.items():
            opened.site.originals.put_copy(job.target, digest)
    finally:
        shutil.rmtree(work, ignore_errors=True)
