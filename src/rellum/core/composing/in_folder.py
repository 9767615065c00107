"""Which parts of a release lie in the game folder already, so that their archives are not needed."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property

from rellum.core.catalog.model import Catalog, Release
from rellum.core.catalog.release_rules import PlaceRule
from rellum.core.composing.known_folders import known_folders
from rellum.core.layers.model import LayerFile
from rellum.core.layers.placing import place_archives
from rellum.core.layers.wrappers import KnownFolders
from rellum.core.pack.home import PackHome
from rellum.core.pack.lock_file import LockedRelease
from rellum.core.pack.lost_state import StateFault
from rellum.core.pack.open_state import open_state
from rellum.core.pack.pack_file import PackFile
from rellum.core.pack.state import State
from rellum.core.shelf.index import ShelfEntry
from rellum.core.shelf.store import Shelf
from rellum.core.solving.problem import are_chosen
from rellum.core.values.ids import ModId
from rellum.core.values.paths import MemberPlace, PlacePath, Roots, file_of


class InFolder:
    """What was laid, and still lies as it was left."""

    def __init__(self, state: State, roots: Roots, known: KnownFolders) -> None:
        self._state = state
        self._known = known
        self._roots = roots

    def parts(self, chain: Sequence[Release], locked: LockedRelease, shelf: Shelf) -> int:
        """Return how many parts at the beginning of a chain lie in the folder, whole.

        They do where every file that they would lay is there, from archives whose members are known.
        """
        laid = self._versions.get(locked.mod)
        count = next((n for n, part in enumerate(chain, 1) if part.version.text == laid), 0)
        if not count:
            return 0
        files: dict[PlacePath, LayerFile] = {}
        for part in chain[:count]:
            entries = list(_entries(part, locked, shelf))
            if None in entries or not all(map(_only_brings, part.places)) or _changes_files(part):
                return 0
            archives = [(each, shelf.members(each.digest)) for each in entries if each]
            placed = place_archives(part.places, archives, locked.options, self._known)
            files |= {file_of(file.path): file for file in placed}
        return count if self._are_laid(files) else 0

    @cached_property
    def _versions(self) -> dict[ModId, str]:
        """The version of each mod that has something laid; asked for only if a file is missing."""
        return {each.mod: each.version for each in self._state.releases_laid()}

    def _are_laid(self, files: dict[PlacePath, LayerFile]) -> bool:
        laid = self._state.laid(files)
        for path, file in files.items():
            found = laid.get(path)
            if found is None or found.content is None or found.content.digest != file.digest:
                return False
            try:
                status = os.lstat(self._roots.absolute(path))
            except OSError:
                return False
            if (status.st_size, status.st_mtime_ns) != (found.content.size, found.content.mtime_ns):
                return False
        return True


def _entries(part: Release, locked: LockedRelease, shelf: Shelf) -> Iterator[ShelfEntry | None]:
    """Yield the archives of a part, also those that are no longer on the shelf."""
    for file in part.files:
        if are_chosen(file.options, locked.options):
            yield shelf.find(file, part) or shelf.recall(file)


def _only_brings(rule: PlaceRule) -> bool:
    """Whether a rule lays members of archives as they are, at paths that it tells itself."""
    return rule.takes_members and not isinstance(rule.to, MemberPlace) and "${" not in rule.to


def _changes_files(part: Release) -> bool:
    return bool(part.edits or part.removes or part.settings or part.carry)


@contextmanager
def in_folder_of(home: PackHome, catalog: Catalog, pack: PackFile) -> Iterator[InFolder | None]:
    """Give what lies in the folder of a pack; None where it has adopted none yet."""
    try:
        state = open_state(home)
    except StateFault:
        yield None
        return
    try:
        known = known_folders(state, catalog.sheet, pack)
        yield InFolder(state, Roots(state.adopted().folder, state.outside()), known)
    finally:
        state.close()
