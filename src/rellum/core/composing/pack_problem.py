"""From a pack's files to the problem that the solver is asked."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass

from rellum.core.catalog.card_store import terms_of
from rellum.core.catalog.load import find_mod, refuse_faulty
from rellum.core.catalog.model import Catalog, Release
from rellum.core.errors import UserError
from rellum.core.folder.identity import Identity
from rellum.core.pack.game_now import identity_of
from rellum.core.pack.home import PackHome
from rellum.core.pack.lock_file import LockFile
from rellum.core.pack.pack_file import PackFile, understand
from rellum.core.pack.session import Session
from rellum.core.pack.trials_file import read_pack_trials
from rellum.core.solving.problem import Locked, Problem
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.version import Version


class NoSuchGame(UserError):
    """No known version of the game lies in the range that the pack allows."""

    code = "no-such-game"


@dataclass(frozen=True, slots=True, kw_only=True)
class PackProblem:
    """A pack, the catalog it draws on, the line-up that stands (if any), and what the solver is asked."""

    home: PackHome
    pack: PackFile
    catalog: Catalog
    identity: Identity
    lock: LockFile | None
    problem: Problem

    def releases_now(self) -> Mapping[ModId, Release]:
        """Return the releases of the line-up that stands, without those that no card has any more."""
        return locked_releases(self.lock, self.catalog) if self.lock else {}


def problem_of(opened: Session, *, fresh: Collection[ModId] | None = None) -> PackProblem:
    """Read a pack's files. ``fresh``: mods whose release need not stay as it is; None: all.

    Raises what reading can raise, UnknownMod, NoSuchGame.
    """
    home = opened.home
    pack, catalog, lock = opened.files.pack, opened.files.catalog, opened.files.lock_if_any
    identity = identity_of(opened, catalog.sheet)
    problem = make_problem(home, pack, catalog, identity, lock, fresh)
    return PackProblem(
        home=home, pack=pack, catalog=catalog, identity=identity, lock=lock, problem=problem
    )


def make_problem(
    home: PackHome,
    pack: PackFile,
    catalog: Catalog,
    identity: Identity,
    lock: LockFile | None,
    fresh: Collection[ModId] | None = (),
) -> Problem:
    """Put wants, holds, trials, game and what stands into one problem."""
    for mod in (*(want.mod for want in pack.wants), *(hold.mod for hold in pack.holds)):
        find_mod(catalog, mod)
    wants, holds = understand(pack, catalog)
    all_trials = catalog.trials + read_pack_trials(home)
    keeps_game = lock is not None and fresh is not None
    return Problem(
        games=_games(pack, catalog, identity, lock.game_version if keeps_game and lock else None),
        edition=identity.edition,
        expansions=identity.expansions,
        wants=wants,
        holds=holds,
        catalog=catalog,
        # What broke with a graft in the game says nothing of the releases alone.
        trials=tuple(each for each in all_trials if not each.grafts),
        trust=pack.trust,
        locked={} if fresh is None or lock is None else _locked(lock, pack, catalog, fresh),
    )


def _games(
    pack: PackFile, catalog: Catalog, identity: Identity, locked: Version | None
) -> tuple[Version, ...]:
    """Return the game versions allowed: the one that stands first, then the newest."""
    if pack.game_range is None:
        return (identity.version,)
    known = {*catalog.sheet.known_versions, identity.version}
    allowed = sorted((each for each in known if each in pack.game_range), reverse=True)
    if not allowed:
        texts = ", ".join(each.text for each in sorted(known))
        raise NoSuchGame(
            f"no known game version matches '{pack.game_range}'",
            hint=f"Known versions: {texts}; 'rellum decide game-range RANGE' sets another.",
        )
    return tuple(sorted(allowed, key=lambda each: each != locked))


def _locked(
    lock: LockFile, pack: PackFile, catalog: Catalog, fresh: Collection[ModId]
) -> dict[ModId, Locked]:
    """Return what stays if it can: the wants' releases in the pack's order, then the others."""
    locked = {each.mod: each for each in lock.releases}
    standing = locked_releases(lock, catalog)
    wanted = [want.mod for want in pack.wants if want.mod in standing]
    return {
        mod: Locked(
            version=parse_version(locked[mod].version, catalog.ordering(mod)),
            build=locked[mod].build,
            options=locked[mod].options,
        )
        for mod in dict.fromkeys([*wanted, *standing])
        if mod not in fresh
    }


def locked_releases(lock: LockFile, catalog: Catalog) -> LockedReleases:
    """Return the releases of a line-up, without those that no card has any more.

    Raises FileFaults where the card of one of them has mistakes.
    """
    refuse_faulty(catalog, [each.mod for each in lock.releases])
    return LockedReleases(lock, catalog)


class LockedReleases(Mapping[ModId, Release]):
    """The releases of a line-up that cards have, in load order; each is read when it is first asked for."""

    def __init__(self, lock: LockFile, catalog: Catalog) -> None:
        book = terms_of(catalog)
        self._mods = catalog.mods
        self._read: dict[ModId, Release] = {}
        self._locked = {
            each.mod: each
            for each in lock.releases
            if each.mod in catalog.mods and book.names(each.mod).mask(each.version, each.build)
        }

    def __getitem__(self, mod: ModId) -> Release:
        found = self._read.get(mod)
        if found is None:
            locked = self._locked[mod]
            found = self._mods[mod].release_named(locked.version, locked.build)
            assert found is not None  # its card has it
            self._read[mod] = found
        return found

    def __contains__(self, mod: object) -> bool:
        return mod in self._locked

    def __iter__(self) -> Iterator[ModId]:
        return iter(self._locked)

    def __len__(self) -> int:
        return len(self._locked)
