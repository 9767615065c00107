"""Record a trial: whether the line-up, or some releases, work on a version of the game."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from rellum.core.actions.match.wants import find_release_version
from rellum.core.catalog.load import find_mod
from rellum.core.catalog.model import Catalog
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.errors import UserError
from rellum.core.nearest import nearest
from rellum.core.pack.catalogs import catalog_of
from rellum.core.pack.lock_file import LockFile, read_lock
from rellum.core.pack.pack_file import PackFile, read_pack_file
from rellum.core.pack.trials_file import add_trial
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.version import Version, VersionSyntaxError


class BadTrial(UserError):
    """The trial does not say which releases it is about."""

    code = "bad-trial"


@dataclass(frozen=True, slots=True, kw_only=True)
class TrialResult:
    """What was recorded. ``date`` is ISO 8601."""

    outcome: Literal["works", "breaks"]
    game: Version
    date: str
    releases: tuple[tuple[ModId, str], ...]
    file: str


def record_trial(
    request: Request,
    outcome: Literal["works", "breaks"],
    named: Sequence[str] = (),
    *,
    game: str = "",
    note: str = "",
    grafts: Sequence[str] = (),
) -> TrialResult:
    """Add an outcome to the pack's trials.toml.

    ``named`` are mods, each perhaps with ``@`` and a version; a mod alone means its release in the
    line-up, none at all the whole line-up. ``game`` is the version of the game in the folder unless
    it is given; ``grafts`` were in it as well. Raises BadTrial, UnknownMod, UnknownRelease, NoLineUp.
    """
    with open_pack(request) as opened:
        home = opened.home
        pack = read_pack_file(home)
        _refuse_unknown_grafts(grafts, pack)
        catalog = catalog_of(home, pack)
        here = opened.state.identity().version
        version = _game_version(game, catalog, here) if game else here
        needs_lock = not (named or grafts) or any("@" not in each for each in named)
        lock = read_lock(home) if needs_lock else None
        releases = _named_releases(named, catalog, lock) if named or not grafts else ()
        date = datetime.date.today().isoformat()
        add_trial(
            home,
            outcome=outcome,
            game=version.text,
            date=date,
            releases=releases,
            note=note,
            grafts=grafts,
        )
        return TrialResult(
            outcome=outcome, game=version, date=date, releases=releases, file=home.trials_file
        )


def _refuse_unknown_grafts(grafts: Sequence[str], pack: PackFile) -> None:
    known = [graft.name for graft in pack.grafts]
    for each in grafts:
        if each not in known:
            raise BadTrial(
                f"the pack has no graft {each!r}" + nearest(each, known),
                hint="'rellum graft' lists the grafts.",
            )


def _game_version(text: str, catalog: Catalog, here: Version) -> Version:
    """Read a version of the game; one that the sheet knows of, where it knows of any."""
    try:
        version = parse_version(text)
    except VersionSyntaxError as error:
        raise BadTrial(
            str(error), hint="Write the game's version, e.g. --version 1.7.0."
        ) from error
    known = catalog.sheet.known_versions
    if known and version not in (*known, here):
        texts = ", ".join(each.text for each in known)
        raise BadTrial(
            f"the game sheet knows no version {text!r}",
            hint=f"It knows {texts}; add the version to 'versions' in the sheet if it is new.",
        )
    return version


def _named_releases(
    named: Sequence[str], catalog: Catalog, lock: LockFile | None
) -> tuple[tuple[ModId, str], ...]:
    in_line_up = {each.mod: each.version for each in lock.releases} if lock else {}
    if not named:
        if not in_line_up:
            raise BadTrial("the line-up is empty, so there is nothing to record")
        return tuple(in_line_up.items())
    releases: dict[ModId, str] = {}
    for each in named:
        mod_id, _, version = each.partition("@")
        mod = find_mod(catalog, mod_id)
        if version:
            releases[mod.id] = find_release_version(mod, version).text
        elif mod.id in in_line_up:
            releases[mod.id] = in_line_up[mod.id]
        else:
            raise BadTrial(
                f"{mod.id} is not in the line-up, so name its version",
                hint=f"Write {mod.id}@{mod.releases[0].version}.",
            )
    return tuple(releases.items())
