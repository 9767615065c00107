"""What is vanilla in the folder of a new pack, and what else is in it.

Most curators begin with a game that is modded already. Where the files of its version are known, these are
what vanilla is, whatever the folder holds; everything else in it gets a cause. Where they are not known, only
signs tell.
"""

from __future__ import annotations

import os
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from rellum.core.catalog.known import KnownBaseline
from rellum.core.catalog.load import read_catalog
from rellum.core.catalog.model import Catalog, GameSheet
from rellum.core.change.rebasing import row_by_hash
from rellum.core.folder.baselines import FolderHashes, read_sums
from rellum.core.folder.identity import Identity
from rellum.core.folder.listing import FolderEntry
from rellum.core.globs import PathTest
from rellum.core.hashing import Digest
from rellum.core.pack.new_state import BaselineRow
from rellum.core.shelf.store import Shelf
from rellum.core.values.ids import ModId
from rellum.core.values.path_rules import PathRules
from rellum.core.values.paths import GAME, PlacePath, Roots, file_of, is_in_game, parents

_FOLDER_MODE = 0o755
_DAY_NS = 24 * 3600 * 1_000_000_000


def known_baseline(sheet: GameSheet, identity: Identity) -> KnownBaseline | None:
    """Return the known baseline of just this version, edition and expansions."""
    asked = (identity.version, identity.edition, identity.expansions)
    return next((k for k in sheet.baselines if (k.version, k.edition, k.expansions) == asked), None)


def rows_as_found(
    entries: Iterable[FolderEntry], digests: Mapping[str, Digest]
) -> list[BaselineRow]:
    """Return the rows of a baseline that is what the folder holds."""
    return [
        (e.path, e.kind, e.size, digests.get(e.path, Digest("")), e.mode, e.mtime_ns, e.target)
        for e in entries
    ]


def rows_as_known(
    known: KnownBaseline,
    entries: Sequence[FolderEntry],
    digests: Mapping[str, Digest],
    roots: Roots,
    is_players: PathTest,
) -> list[BaselineRow]:
    """Return the rows of a known baseline: from the folder what is as known, the rest by its hash alone.

    Folders that hold no file, and links, are taken as they are: lists of hashes do not know them. Raises
    SumsFault, OSError.
    """
    sums = {path: said for path, said in read_sums(known).items() if not is_players(path)}
    by_path = {entry.path: entry for entry in entries}
    there = [(PlacePath(e.path), e.size) for e in entries if e.kind == "file" and e.path in sums]
    hashes: Mapping[PlacePath, str] = (
        {path: digests[path] for path, _ in there if path in digests}
        if known.form == "blake3"
        else FolderHashes(roots).of(known.form, there)
    )
    rows: list[BaselineRow] = []
    for path, digest in sums.items():
        entry = by_path.get(path)
        if entry and entry.kind == "file" and hashes.get(path) == digest:
            rows += rows_as_found([entry], digests)
        else:
            rows.append(row_by_hash(path, known.form, digest))
    folders = {folder for path in sums for folder in parents(path)} - {PlacePath(GAME)}
    filled = {f for e in entries if e.kind == "file" for f in parents(PlacePath(e.path))}
    for entry in entries:
        is_empty = entry.kind == "folder" and entry.path not in filled
        if is_empty or entry.kind in ("link", "other") or entry.path in folders:
            rows += rows_as_found([entry], digests) if entry.path not in sums else []
    missing = sorted(folder for folder in folders if folder not in by_path)
    rows += [(folder, "folder", 0, "", _FOLDER_MODE, 0, "") for folder in missing]
    return sorted(rows)


@dataclass(frozen=True, slots=True, kw_only=True)
class Likeness:
    """Files that look like something known: how many, of what, and the first of them."""

    what: str
    paths: tuple[PlacePath, ...]


def like_releases(
    paths: Sequence[PlacePath],
    digests: Mapping[str, Digest],
    shelf_folder: str,
    catalog: Catalog | None,
) -> tuple[Likeness, ...]:
    """Say which files are members of archives on the shelf, are listed by cards as left over, or lie where a
    release of a card lays its own.
    """
    found: dict[str, list[PlacePath]] = {}
    by_digest = members_of(shelf_folder)
    folders = dict(_own_folders(catalog)) if catalog else {}
    left_over = _left_over_tests(catalog)
    for path in paths:
        label = by_digest.get(digests.get(path, Digest("")))
        mod = next((folders[each] for each in parents(path) if each in folders), "")
        old = next((each for each, is_left_over in left_over.items() if is_left_over(path)), "")
        if label:
            found.setdefault(f"{label}, from the shelf", []).append(path)
        elif old:
            found.setdefault(f"left-overs of {old}, as its card names them", []).append(path)
        elif mod:
            found.setdefault(f"{mod}, by its folder", []).append(path)
    return tuple(Likeness(what=what, paths=tuple(each)) for what, each in sorted(found.items()))


def _left_over_tests(catalog: Catalog | None) -> dict[ModId, PathTest]:
    """Return, for each mod with a card that names left-overs, whether a file is one."""
    found = {}
    for mod in catalog.mods.values() if catalog else ():
        if patterns := [each for release in mod.releases for each in release.obsolete]:
            rules = catalog.sheet.path_rules if catalog else PathRules()
            found[mod.id] = rules.test(patterns)
    return found


def members_of(shelf_folder: str, archives: Container[str] | None = None) -> dict[Digest, str]:
    """Return what is in archives on the shelf, or only in some, with the name of the archive."""
    if not os.path.isdir(shelf_folder):
        return {}
    with Shelf(shelf_folder) as shelf:
        return {
            member.digest: entry.origin.label or entry.name
            for entry in shelf.index.all()
            if archives is None or entry.digest in archives
            for member in shelf.members(entry.digest)
            if member.size
        }


def _own_folders(catalog: Catalog) -> Iterator[tuple[PlacePath, str]]:
    """Yield folders that releases lay for themselves, with the mod's id."""
    places = set(catalog.sheet.places.values()) | {PlacePath(GAME)}
    for mod in catalog.mods.values():
        for release in mod.releases:
            for rule in release.places:
                folder = file_of(rule.to)
                if folder == rule.to and folder not in places and "${" not in folder:
                    yield folder, mod.id


def signs_of_mods(
    entries: Sequence[FolderEntry], sheet: GameSheet, catalog: Catalog | None
) -> tuple[Likeness, ...]:
    """Say what looks foreign where nobody knows the vanilla files."""
    is_own = sheet.path_rules.test((*sheet.own_files, *sheet.players_own))
    its_own = [each for each in entries if each.kind == "file" and not is_own(each.path)]
    files = [PlacePath(each.path) for each in its_own]
    found: list[Likeness] = []
    for name, place in sheet.places.items():
        inside = [path for path in files if is_in_game(place) and place in parents(path)]
        if inside and name in ("mods", "plugins", "addons", "packs"):
            found.append(Likeness(what=f"in the place @{name}", paths=tuple(inside)))
    tests = _left_over_tests(catalog).values()
    left_over = [path for path in files if any(is_left_over(path) for is_left_over in tests)]
    if left_over:
        found.append(Likeness(what="listed by cards as left over", paths=tuple(left_over)))
    newer = _much_newer(its_own)
    if newer:
        found.append(Likeness(what="much newer than the rest", paths=tuple(newer)))
    return tuple(found)


def _much_newer(files: Sequence[FolderEntry]) -> list[PlacePath]:
    """Return the few files that were written more than a day after nine in ten of the others."""
    if len(files) < 10:
        return []
    times = sorted(each.mtime_ns for each in files)
    border = times[len(times) * 9 // 10 - 1] + _DAY_NS
    return [PlacePath(each.path) for each in files if each.mtime_ns > border]


def catalog_if_readable(folders: Sequence[str], sheet: GameSheet) -> Catalog | None:
    """Return what of a catalog can be read: for hints, mistakes in it are no matter here."""
    return read_catalog(folders, sheet.id, [])
