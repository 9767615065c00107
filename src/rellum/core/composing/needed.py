"""What the line-up needs and the shelf lacks."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from rellum.core.catalog.load import refuse_faulty
from rellum.core.catalog.model import Catalog, Release
from rellum.core.catalog.patches import release_chains
from rellum.core.catalog.release_rules import ReleaseFile
from rellum.core.composing.in_folder import InFolder, in_folder_of
from rellum.core.errors import UserError
from rellum.core.pack.catalogs import catalog_of
from rellum.core.pack.home import PackHome, pack_home
from rellum.core.pack.lock_file import LockedRelease, LockFile, read_lock
from rellum.core.pack.pack_file import PackFile, read_pack_file
from rellum.core.shelf.index import ShelfEntry
from rellum.core.shelf.store import Shelf
from rellum.core.solving.problem import are_chosen


class MissingArchives(UserError):
    """The line-up needs archives that are not on the shelf."""

    code = "missing-archives"


@dataclass(frozen=True, slots=True, kw_only=True)
class NeededFile:
    """A file of a release of the line-up, with what its card says of where to get it.

    ``entry`` is what the shelf knows of it: the file itself, or, ``in_folder``, one that was there and of
    which all that would be laid lies in the game folder already. None: it is missing.
    """

    release: Release
    file: ReleaseFile
    entry: ShelfEntry | None
    in_folder: bool = False

    @property
    def can_be_fetched(self) -> bool:
        """Whether there is an address, and a hash to know by that what comes from there is right."""
        return bool(self.file.urls and (self.file.sha256 or self.file.blake3))


@dataclass(frozen=True, slots=True, kw_only=True)
class Needs:
    """A pack, its catalog, and the files of its line-up, those that are missing apart."""

    home: PackHome
    pack: PackFile
    catalog: Catalog
    files: tuple[NeededFile, ...]
    missing: tuple[NeededFile, ...]


def needs_of(folder: str, shelf: Shelf) -> Needs:
    """Return what the line-up of the pack in ``folder`` needs.

    Raises NoPack, NoLineUp, FileFaults, NoCatalog.
    """
    home = pack_home(folder)
    pack = read_pack_file(home)
    catalog = catalog_of(home, pack)
    with in_folder_of(home, catalog, pack) as in_folder:
        files = needed_files(read_lock(home), catalog, shelf, in_folder)
    shelf.index.add_pack(home.folder)
    return Needs(home=home, pack=pack, catalog=catalog, files=files, missing=missing_among(files))


def needed_files(
    lock: LockFile, catalog: Catalog, shelf: Shelf, in_folder: InFolder | None
) -> tuple[NeededFile, ...]:
    """Return the files of a line-up; none of releases that no card has any more."""
    return tuple(
        file
        for locked in lock.releases
        for _, files in parts_of(locked, catalog, shelf, in_folder)
        for file in files
    )


def missing_among(files: Iterable[NeededFile]) -> tuple[NeededFile, ...]:
    """Return those that the shelf lacks, if something of them is still to be laid."""
    return tuple(each for each in files if each.entry is None)


def still_missing(files: Iterable[NeededFile], shelf: Shelf) -> tuple[NeededFile, ...]:
    """Return those of some missing files that did not come to the shelf meanwhile."""
    return tuple(each for each in files if shelf.find(each.file, each.release) is None)


def release_of(locked: LockedRelease, catalog: Catalog) -> Release | None:
    """Return a release of a line-up as its card has it now; None where no card has it any more."""
    mod = catalog.mods.get(locked.mod)
    return mod.release_named(locked.version, locked.build) if mod else None


Part = tuple[Release, list[NeededFile]]


def parts_of(
    locked: LockedRelease, catalog: Catalog, shelf: Shelf, in_folder: InFolder | None
) -> list[Part]:
    """Return what is laid for a release, in order, with the files of each part.

    Of all ways (in full, or a full release and patches), that with the fewest bytes to fetch is
    taken, what is on the shelf and in the folder counted; of equal ones that with the fewest parts.
    """
    refuse_faulty(catalog, [locked.mod])
    release = release_of(locked, catalog)
    if release is None:
        return []
    chains = release_chains(release, catalog.mods[locked.mod])
    ways = [_way(chain, locked, shelf, in_folder) for chain in chains]
    if len(ways) == 1:
        return ways[0]
    return min(ways, key=lambda way: (_bytes_to_fetch(way), len(way)))


def _way(
    chain: Sequence[Release], locked: LockedRelease, shelf: Shelf, in_folder: InFolder | None
) -> list[Part]:
    way = [(part, _files_of_part(part, locked, shelf)) for part in chain]
    if in_folder is None or not any(missing_among(files) for _, files in way):
        return way
    count = in_folder.parts(chain, locked, shelf)
    return [
        (part, [_as_in_folder(each, shelf) if at < count else each for each in files])
        for at, (part, files) in enumerate(way)
    ]


def _as_in_folder(needed: NeededFile, shelf: Shelf) -> NeededFile:
    return replace(needed, entry=needed.entry or shelf.recall(needed.file), in_folder=True)


_UNKNOWN_BYTES = 1 << 40
"""What a file counts whose card does not tell its size."""


def _bytes_to_fetch(way: list[Part]) -> int:
    sizes = [each.file.size for _, files in way for each in missing_among(files)]
    return sum(_UNKNOWN_BYTES if size is None else size for size in sizes)


def _files_of_part(part: Release, locked: LockedRelease, shelf: Shelf) -> list[NeededFile]:
    in_lock = {file.name: file for file in locked.files}
    found = []
    for file in part.files:
        if not are_chosen(file.options, locked.options):
            continue
        known = in_lock.get(file.name)
        # The lock may know the hash of a file that the card does not tell.
        exact = file
        if known and known.blake3 and not file.blake3:
            exact = replace(file, blake3=known.blake3)
        found.append(NeededFile(release=part, file=exact, entry=shelf.find(exact, part)))
    return found
