"""Status: how pack and game stand, and what to do next. No card is read for it, and no unchanged file."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from contextlib import suppress
from typing import Literal, NamedTuple

from rellum.core.change.looking import drift_of, with_causes, with_lost_originals
from rellum.core.errors import UserError
from rellum.core.folder.differences import Differences
from rellum.core.folder.identity import Identity
from rellum.core.folder.model import Cause, Drift
from rellum.core.pack.arrivals import releases_since
from rellum.core.pack.backup import Backup
from rellum.core.pack.catalogs import find_catalogs, has_cards
from rellum.core.pack.checkpoints import Checkpoint
from rellum.core.pack.hunt_log import hunt_file
from rellum.core.pack.locked_release import GRAFT, LockedGraft, LockedRelease, LockFile
from rellum.core.pack.pack_file import FollowedFeed, HoldLine, PackFile, asked_hash
from rellum.core.pack.plays import Play, read_plays
from rellum.core.pack.session import Session
from rellum.core.pack.trials_file import read_pack_trials
from rellum.core.pack.variants import variants_of
from rellum.core.values.ids import ModId, ReleaseName

LineUpState = Literal["none", "outdated", "for another game", "current"]
"""Whether rellum.lock fits what rellum.toml asks for, and the game version in the folder."""


_HARMLESS: tuple[Cause, ...] = ("foreign", "unsure")
"""Findings that nothing has to be done about."""


class ReleaseStatus(NamedTuple):
    """A mod in the game or in the line-up: its releases there, ``laid`` and ``chosen``, or None.

    ``since`` is when what is laid came (RFC 3339), empty where that is not known.
    """

    mod: ModId
    laid: ReleaseName | None
    chosen: ReleaseName | None
    since: str
    because: tuple[ModId, ...] = ()

    @property
    def waits(self) -> bool:
        """Whether the next ``apply`` does something about it."""
        return self.laid != self.chosen


class MissingFile(NamedTuple):
    """An archive that the line-up needs and the shelf lacks; ``size`` in bytes, where known."""

    release: ReleaseName
    file: str
    size: int | None


class NextStep(NamedTuple):
    """The command to run next, and why."""

    command: str
    why: str


class Status(NamedTuple):
    """How a pack stands.

    ``good`` is the newest checkpoint that is marked good, ``play`` how the game last ran since the last
    change. ``unfit`` are releases that their cards of today rule out. ``has_cards``: the catalog has mods at
    all; ``breaks``: a trial says that what is in the game does not work. ``notes`` are what has to be checked
    by hand, by mod.
    """

    pack: str
    pack_folder: str
    feed: FollowedFeed | None
    variant: str
    other_variants: tuple[str, ...]
    game: Identity
    game_folder: str
    drift: Drift
    line_up: LineUpState
    want_count: int
    releases: tuple[ReleaseStatus, ...]
    missing: tuple[MissingFile, ...]
    holds: tuple[HoldLine, ...]
    left_out: tuple[ModId, ...]
    notes: tuple[tuple[ReleaseName, str], ...]
    good: Checkpoint | None
    backup: Backup | None
    play: Play | None
    is_hunting: bool
    can_play: bool
    has_cards: bool
    breaks: bool
    unfit: tuple[tuple[str, str], ...]

    @property
    def waiting(self) -> tuple[ReleaseStatus, ...]:
        """The mods that the next ``apply`` brings, moves or takes out."""
        return tuple(each for each in self.releases if each.waits)

    @property
    def is_quiet(self) -> bool:
        """Whether the folder is as Rellum left it and as the line-up says, so that no archive is needed."""
        wrong = self.drift.findings or self.drift.missing_originals or self.unfit
        return not (wrong or self.waiting)

    @property
    def next_step(self) -> NextStep | None:
        """What to do next; None where there is nothing to do."""
        for is_due, command, why in self._steps():
            if is_due:
                return NextStep(command=command, why=why)
        return None

    def _steps(self) -> Iterable[tuple[bool, str, str]]:
        """Yield what may be due, the most pressing first."""
        has_drift = any(each.cause not in _HARMLESS for each in self.drift.findings)
        is_laid = any(each.laid for each in self.releases)
        yield self.is_hunting, "rellum hunt", "a hunt is under way"
        yield self.drift.update is not None, "rellum preview", "the game was updated"
        yield has_drift, "rellum check", "the game folder is not as Rellum left it"
        yield bool(self.drift.missing_originals), "rellum check", "kept copies are missing"
        if self.line_up == "none":
            why = "the catalog has no mods yet: draft cards of your downloads"
            yield not self.has_cards, "rellum describe FOLDER", why
            yield not self.want_count, "rellum want MOD", "the pack wants no mods yet"
            yield True, "rellum resolve", "there is no line-up yet"
        yield self.line_up == "outdated", "rellum resolve", "rellum.toml changed since the line-up"
        yield self.line_up != "current", "rellum resolve", "the line-up is for another game version"
        yield bool(self.unfit), "rellum resolve", "a card says that a release is not for this game"
        yield bool(self.missing), "rellum fetch", "archives are missing"
        yield bool(self.waiting), "rellum preview", "the game is not as the line-up says yet"
        yield self.breaks, "rellum resolve", "a recorded trial says that these releases break"
        yield (
            is_laid and self.can_play and self.play is None,
            "rellum play",
            "nobody tried it since the last change",
        )
        yield (
            self.play is not None and self.play.outcome == "breaks",
            "rellum hunt",
            "the game broke",
        )


def status_of(opened: Session, differences: Differences, shelf: str) -> Status:
    """Return how a pack stands. Raises what reading its own files can raise.

    ``differences``: of its folders. ``shelf``: the folder of the shelf; empty for this user's.
    """
    pack, lock = opened.files.pack, opened.files.lock_if_any
    drift = drift_of(opened, looks_at_own=False, differences=differences)
    identity = opened.state.identity()
    releases = tuple(releases_now(opened, lock))
    variants = [each.name for each in variants_of(opened.home) if not each.in_use]
    good = next((each for each in opened.state.checkpoints.all() if each.good), None)
    chosen = {each.mod for each in lock.releases} if lock else set()
    return Status(
        pack=pack.name,
        pack_folder=opened.home.folder,
        feed=pack.feed,
        variant=pack.variant,
        other_variants=tuple(variants),
        game=identity,
        game_folder=opened.roots.game_folder,
        drift=with_lost_originals(with_causes(drift, opened), opened),
        line_up=line_up_state(lock, pack, identity),
        want_count=len(pack.wants),
        releases=releases,
        missing=_missing(lock, releases, opened, shelf) if lock else (),
        holds=pack.holds,
        left_out=tuple(
            each.mod for each in pack.wants if lock and each.optional and each.mod not in chosen
        ),
        notes=tuple(
            (each.name, note)
            for each in (lock.releases if lock else ())
            for note in each.check_by_hand
        ),
        good=good,
        backup=_newest_backup(opened),
        play=_play_since(opened),
        can_play=opened.rules.starts,
        has_cards=bool(lock and lock.releases) or has_cards(_catalogs(opened)),
        unfit=opened.rules.unfit,
        breaks=_is_known_to_break(opened, lock),
        is_hunting=os.path.exists(hunt_file(opened.home)),
    )


def _catalogs(opened: Session) -> tuple[str, ...]:
    try:
        return find_catalogs(opened.home, pack=opened.files.pack)
    except UserError:
        return ()


def _is_known_to_break(opened: Session, lock: LockFile | None) -> bool:
    """Whether a trial of the pack says that mods of this line-up break together on this game."""
    in_game = set(opened.state.releases_laid())
    if lock is None or not in_game or not os.path.exists(opened.home.trials_file):
        return False
    there = {(each.mod, each.version) for each in in_game}
    game = opened.state.identity().version
    with suppress(UserError):
        for trial in read_pack_trials(opened.home):
            said = {(mod, str(version)) for mod, version in trial.releases}
            said |= {(ModId(name), GRAFT) for name in trial.grafts}
            if trial.outcome == "breaks" and trial.game == game and said and said <= there:
                return True
    return False


def line_up_state(lock: LockFile | None, pack: PackFile, identity: Identity) -> LineUpState:
    """Return whether a line-up fits what the pack asks for, and the game."""
    if lock is None:
        return "none"
    if lock.asked != asked_hash(pack):
        return "outdated"
    return "current" if lock.game_version == identity.version else "for another game"


def releases_now(opened: Session, lock: LockFile | None) -> Iterable[ReleaseStatus]:
    """Yield each mod of the line-up in its order, then those that are only in the game."""
    laid = {each.mod: each for each in opened.state.releases_in_game()}
    since = releases_since(opened.state.changes, laid.keys())
    chosen: Sequence[LockedRelease | LockedGraft] = (*lock.releases, *lock.grafts) if lock else ()
    for each in chosen:
        yield ReleaseStatus(
            mod=each.mod,
            laid=laid.get(each.mod),
            chosen=each.name,
            since=since.get(each.mod, ""),
            because=each.because if isinstance(each, LockedRelease) else (),
        )
    for mod in sorted(laid.keys() - {each.mod for each in chosen}):
        yield ReleaseStatus(mod=mod, laid=laid[mod], chosen=None, since=since.get(mod, ""))


def _missing(
    lock: LockFile, releases: Sequence[ReleaseStatus], opened: Session, folder: str
) -> tuple[MissingFile, ...]:
    """Return what is missing of releases that wait. The catalog is asked only where something may be."""
    waiting = {each.mod for each in releases if each.waits}
    if not waiting:
        return ()
    from rellum.core.shelf.location import shelf_folder
    from rellum.core.shelf.store import Shelf

    with Shelf(folder or shelf_folder()) as shelf:
        files = [file for each in lock.releases if each.mod in waiting for file in each.files]
        if all(shelf.find(file) for file in files):
            return ()
        from rellum.core.composing.in_folder import InFolder
        from rellum.core.composing.known_folders import known_folders
        from rellum.core.composing.needed import missing_among, needed_files

        catalog, pack = opened.files.catalog, opened.files.pack
        known = known_folders(opened.state, catalog.sheet, pack)
        in_folder = InFolder(opened.state, opened.roots, known)
        needed = needed_files(lock, catalog, shelf, in_folder)
        return tuple(
            MissingFile(
                release=ReleaseName(
                    each.release.mod, each.release.version.text, each.release.build
                ),
                file=each.file.name,
                size=each.file.size,
            )
            for each in missing_among(needed)
        )


def _play_since(opened: Session) -> Play | None:
    """Return how the game last ran, if that was after the last change."""
    plays = read_plays(opened.home)
    changed = opened.state.changes.last_moment()
    return plays[0] if plays and plays[0].at >= changed else None


def _newest_backup(opened: Session) -> Backup | None:
    if not os.path.exists(opened.home.backups_folder):
        return None
    from rellum.core.pack.backups import Backups

    with Backups(opened.home.backups_folder) as backups:
        return backups.newest()
