"""Resolve: from wants and cards to the line-up in rellum.lock."""

from __future__ import annotations

import os
from dataclasses import dataclass, replace

from rellum.core.actions.catalogs import catalog_of
from rellum.core.actions.open_pack import OnRecovered, open_pack
from rellum.core.catalog.load import find_mod
from rellum.core.catalog.model import Catalog, Release, ReleaseFile
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import NoAnswer
from rellum.core.folder.identity import Identity
from rellum.core.ids import ModId
from rellum.core.pack.home import PackHome
from rellum.core.pack.lock_file import LockedRelease, LockFile, NoLineUp, read_lock, write_lock
from rellum.core.pack.pack_file import PackFile, read_pack_file, understand
from rellum.core.shelf.store import Shelf
from rellum.core.solving.problem import Chosen, Game, Problem, Refusal
from rellum.core.solving.search import solve
from rellum.core.versions.version import Version


class NoLineUpExists(NoAnswer):
    """The wants cannot be met together."""

    code = "no-line-up-exists"

    def __init__(self, refusal: Refusal) -> None:
        wants = ", ".join(_want_words(each.mod, each.range.text) for each in refusal.wants)
        super().__init__(
            "no line-up exists for " + wants,
            details=tuple(
                f"{each.text}  ({place_of(each.source)})" if each.source else each.text
                for each in refusal.statements
            ),
            hint="These cannot hold together: drop one of the wants, or widen a range.",
        )
        self.refusal = refusal


def _want_words(mod: str, range_text: str) -> str:
    return mod if range_text == "*" else f"{mod} {range_text}"


@dataclass(frozen=True, slots=True, kw_only=True)
class ResolveResult:
    """The line-up, and the versions of the one before it (None: there was none)."""

    lock: LockFile
    before: dict[ModId, str] | None
    changed: bool
    missing_files: tuple[tuple[LockedRelease, ReleaseFile], ...]


def resolve(
    pack_folder: str, shelf_folder: str, on_recovered: OnRecovered, *, fresh: bool = False
) -> ResolveResult:
    """Find the line-up and write it. ``fresh``: do not keep to the one that stands.

    Raises NoLineUpExists, LoadCycle, UnknownMod, and what reading can raise.
    """
    with open_pack(pack_folder, on_recovered) as opened, Shelf(shelf_folder) as shelf:
        home = opened.home
        pack = read_pack_file(home)
        old = _old_lock(home)
        identity = opened.state.identity()
        lock = make_line_up(pack, catalog_of(home, pack), identity, shelf, None if fresh else old)
        changed = write_lock(home, lock)
        missing = tuple(
            (release, file)
            for release in lock.releases
            for file in release.files
            if shelf.find(file) is None
        )
    before = {each.mod: each.version for each in old.releases} if old else None
    return ResolveResult(lock=lock, before=before, changed=changed, missing_files=missing)


def _old_lock(home: PackHome) -> LockFile | None:
    return read_lock(home) if os.path.exists(home.lock_file) else None


def make_line_up(
    pack: PackFile, catalog: Catalog, identity: Identity, shelf: Shelf, old: LockFile | None
) -> LockFile:
    """Solve, and put the answer into the form of the lock. Raises NoLineUpExists, UnknownMod."""
    for mod in (*(want.mod for want in pack.wants), *(hold.mod for hold in pack.holds)):
        find_mod(catalog, mod)
    wants, holds = understand(pack, catalog)
    problem = Problem(
        game=Game(
            version=identity.version, edition=identity.edition, expansions=identity.expansions
        ),
        wants=wants,
        holds=holds,
        mods=catalog.mods,
        locked=_locked_versions(old, catalog) if old else {},
    )
    answer = solve(problem)
    if isinstance(answer, Refusal):
        raise NoLineUpExists(answer)
    return LockFile(
        sheet=identity.sheet,
        game_version=identity.version,
        edition=identity.edition,
        expansions=identity.expansions,
        releases=tuple(_locked(each, catalog, shelf) for each in answer.chosen),
    )


def _locked(chosen: Chosen, catalog: Catalog, shelf: Shelf) -> LockedRelease:
    release = chosen.release
    files = tuple(
        _with_blake3(file, shelf) for each in release_chain(release, catalog) for file in each.files
    )
    return LockedRelease(
        mod=release.mod,
        version=release.version.text,
        because=chosen.because,
        files=files,
        source=release.source,
    )


def release_chain(release: Release, catalog: Catalog) -> tuple[Release, ...]:
    """Return what is laid for a release, in order: the full release, then its patch."""
    if release.patches is None:
        return (release,)
    full = catalog.mods[release.mod].release(release.patches)
    return (full, release) if full else (release,)


def _with_blake3(file: ReleaseFile, shelf: Shelf) -> ReleaseFile:
    entry = shelf.find(file)
    return replace(file, blake3=file.blake3 or (entry.digest if entry else None))


def current_line_up(
    home: PackHome, pack: PackFile, catalog: Catalog, identity: Identity, shelf: Shelf
) -> tuple[LockFile, bool]:
    """Return the line-up that fits rellum.toml as it is now, and whether it had to be made anew.

    Raises NoLineUp where none was ever made, NoLineUpExists.
    """
    lock = read_lock(home)
    if lock.sheet != identity.sheet:
        raise NoLineUp(
            f"the line-up is for the game {lock.sheet}, and the pack keeps {identity.sheet}",
            hint="Make a new one with 'rellum resolve --fresh'.",
        )
    if _still_fits(lock, pack, catalog, identity):
        return lock, False
    return make_line_up(pack, catalog, identity, shelf, lock), True


def _locked_versions(lock: LockFile, catalog: Catalog) -> dict[ModId, Version]:
    """Return the versions of a line-up, without releases that no card has any more."""
    return {
        each.mod: release.version
        for each in lock.releases
        if each.mod in catalog.mods
        and (release := catalog.mods[each.mod].release_named(each.version))
    }


def _still_fits(lock: LockFile, pack: PackFile, catalog: Catalog, identity: Identity) -> bool:
    """Whether a line-up meets the wants and holds, for this game, and has nothing beside."""
    versions = _locked_versions(lock, catalog)
    wants, holds = understand(pack, catalog)
    wanted = {want.mod for want in wants}
    return (
        (lock.game_version, lock.edition, lock.expansions)
        == (identity.version, identity.edition, identity.expansions)
        and len(versions) == len(lock.releases)
        and all(w.mod in versions and versions[w.mod] in w.range for w in wants)
        and all(h.mod not in versions or versions[h.mod] == h.version for h in holds)
        and all(
            each.mod in wanted or any(mod in versions for mod in each.because)
            for each in lock.releases
        )
    )
