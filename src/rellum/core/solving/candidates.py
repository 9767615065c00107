"""Which releases of a mod may be considered at all, and why the others may not."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from rellum.core.catalog.model import Release
from rellum.core.ids import ModId
from rellum.core.solving.problem import Game, Problem, Statement
from rellum.core.versions.ranges import Range
from rellum.core.versions.version import Version


def unfit_for(game: Game, release: Release) -> Statement | None:
    """Say why a release cannot go with this game, or return None where it can."""
    what = f"{release.mod} {release.version}"
    source = release.source
    if release.game is not None and game.version not in release.game:
        return Statement(
            text=f"{what} is for game {release.game}, and the game is {game.version}",
            source=source.at("game"),
        )
    if release.editions is not None and game.edition not in release.editions:
        return Statement(
            text=f"{what} is for the edition {' or '.join(release.editions)}, "
            f"and the game is {game.edition or 'of no known edition'}",
            source=source.at("editions"),
        )
    missing = [each for each in release.expansions_needed if each not in game.expansions]
    if missing:
        return Statement(
            text=f"{what} needs the expansion {' and '.join(missing)}, which the game has not",
            source=source.at("expansions", "needs"),
        )
    return None


@dataclass(frozen=True, slots=True, kw_only=True)
class Candidates:
    """The releases that fit game, wants and holds, best first, and the ranges asked for."""

    releases: Mapping[ModId, tuple[Release, ...]] = field(hash=False)
    wanted: Mapping[ModId, Range] = field(hash=False)

    def of(self, mod: ModId) -> tuple[Release, ...]:
        """Return the releases of a mod, best first; none where no card is for it."""
        return self.releases.get(mod, ())


def find_candidates(problem: Problem) -> Candidates:
    """Sort each mod's fitting releases: the one in the lock first, then the newest."""
    wanted = {want.mod: want.range for want in problem.wants}
    held = {hold.mod: hold.version for hold in problem.holds}
    releases = {
        mod.id: _sorted_fitting(
            problem.game,
            mod.releases,
            wanted.get(mod.id),
            held.get(mod.id),
            problem.locked.get(mod.id),
        )
        for mod in problem.mods.values()
    }
    return Candidates(releases=releases, wanted=wanted)


def _sorted_fitting(
    game: Game,
    releases: tuple[Release, ...],
    wanted: Range | None,
    held: Version | None,
    locked: Version | None,
) -> tuple[Release, ...]:
    def fits(release: Release) -> bool:
        version = release.version
        if wanted is not None and version not in wanted:
            return False
        if held is not None and version != held:
            return False
        asked_for = held is not None or (wanted is not None and wanted.names_prerelease)
        if version.is_prerelease and not asked_for:
            return False
        return unfit_for(game, release) is None

    newest_first = sorted(filter(fits, releases), key=lambda each: each.version, reverse=True)
    return tuple(sorted(newest_first, key=lambda each: each.version != locked))
