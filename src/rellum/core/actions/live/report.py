"""Report: all that there is to say of a pack's health, gathered for one page."""

from __future__ import annotations

from dataclasses import dataclass

from rellum.core.actions.change.conflicts import conflicts
from rellum.core.actions.live.history import HistoryEntry, history
from rellum.core.actions.live.space import SpaceReport, space
from rellum.core.actions.match.outlook import outlook
from rellum.core.change.looking import drift_of, with_causes
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.composing.needed import release_of
from rellum.core.errors import RellumError
from rellum.core.folder.model import Drift
from rellum.core.layers.contested_paths import Conflicts
from rellum.core.pack.arrivals import releases_since
from rellum.core.pack.plays import Play, read_plays
from rellum.core.pack.session import Session
from rellum.core.pack.state import now
from rellum.core.pack.trials_file import read_pack_trials
from rellum.core.solving.game_versions import Outlook

_MOST_CHANGES = 30


@dataclass(frozen=True, slots=True, kw_only=True)
class ReportedRelease:
    """A release of the line-up. ``since`` is when it came (RFC 3339), empty where that is not known.

    ``laid`` is the version in the game, empty where none is; ``page`` where it was got, ``notes`` what a
    person has to look at.
    """

    mod: str
    name: str
    version: str
    laid: str
    since: str
    why: str
    licence: str
    page: str
    notes: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ReportedTrial:
    """A trial, in words: how it went, on which game version, when (ISO 8601), and what was tried."""

    outcome: str
    game: str
    date: str
    what: tuple[str, ...]
    note: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Report:
    """A pack's health at a moment (``made_at``, RFC 3339).

    What could not be gathered is None; ``missing`` are the reasons, by the section's name.
    """

    pack: str
    made_at: str
    game: str
    version: str
    edition: str | None
    expansions: tuple[str, ...]
    variant: str
    folder: str
    releases: tuple[ReportedRelease, ...]
    look_at: tuple[str, ...]
    holds: tuple[tuple[str, str, str], ...]
    trials: tuple[ReportedTrial, ...]
    plays: tuple[Play, ...]
    changes: tuple[HistoryEntry, ...]
    drift: Drift
    outlook: Outlook | None
    conflicts: Conflicts | None
    space: SpaceReport
    missing: tuple[tuple[str, str], ...]


def report(request: Request) -> Report:
    """Gather what there is to say. Raises what opening the pack and reading its files can raise."""
    missing: list[tuple[str, str]] = []
    seen_outlook: Outlook | None = None
    seen_conflicts: Conflicts | None = None
    try:
        seen_outlook = outlook(request)
    except RellumError as error:
        missing.append(("outlook", error.summary))
    try:
        seen_conflicts = conflicts(request)
    except RellumError as error:
        missing.append(("conflicts", error.summary))
    changes = history(request)
    taken = space(request)
    with open_pack(request) as opened:
        identity = opened.state.identity()
        pack = opened.files.pack
        return Report(
            pack=pack.name,
            made_at=now(),
            game=identity.name,
            version=identity.version.text,
            edition=identity.edition,
            expansions=identity.expansions,
            variant=pack.variant,
            folder=opened.roots.game_folder,
            releases=tuple(_releases(opened)),
            look_at=pack.look_at,
            holds=tuple((each.mod, each.version_text, each.reason) for each in pack.holds),
            trials=tuple(_trials(opened)),
            plays=tuple(read_plays(opened.home)[:10]),
            changes=tuple(changes[:_MOST_CHANGES]),
            drift=with_causes(drift_of(opened), opened),
            outlook=seen_outlook,
            conflicts=seen_conflicts,
            space=taken,
            missing=tuple(missing),
        )


def _releases(opened: Session) -> list[ReportedRelease]:
    lock = opened.files.lock_if_any
    catalog = opened.files.catalog
    laid = {each.mod: each for each in opened.state.releases_laid()}
    since = releases_since(opened.state.changes, laid.keys())
    found = []
    for each in lock.releases if lock else ():
        mod, release = catalog.mods.get(each.mod), release_of(each, catalog)
        pages = (
            [file.page or next(iter(file.urls), "") for file in release.all_files]
            if release
            else []
        )
        news = mod.news.page if mod and mod.news else ""
        here = laid.get(each.mod)
        found.append(
            ReportedRelease(
                mod=each.mod,
                name=mod.name if mod else each.mod,
                version=each.label,
                laid=here.version if here else "",
                since=since.get(each.mod, "") if here else "",
                why="wanted" if not each.because else "needed by " + ", ".join(each.because),
                licence=mod.licence if mod else "",
                page=news or next(filter(None, pages), ""),
                notes=release.check_by_hand if release else (),
            )
        )
    return found


def _trials(opened: Session) -> list[ReportedTrial]:
    return [
        ReportedTrial(
            outcome=each.outcome,
            game=each.game.text,
            date=each.date,
            what=(
                *(f"{mod} {version}" for mod, version in each.releases),
                *(f"graft {name}" for name in each.grafts),
            ),
            note=each.note,
        )
        for each in reversed(read_pack_trials(opened.home))
    ]
