"""For every known game version: which mods are ready, and which block it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from rellum.core.catalog.model import Release, Trial
from rellum.core.solving import causes
from rellum.core.solving.causes import Cause
from rellum.core.solving.giving_up import fewest_to_give_up
from rellum.core.solving.problem import Problem, Statement, Want
from rellum.core.solving.prover import OutOfWork, Work
from rellum.core.solving.refusal import reason_of, without
from rellum.core.solving.search import Found, NotFound, Searcher, games_of
from rellum.core.solving.sentences import tell
from rellum.core.solving.solve import chosen_releases, trial_for
from rellum.core.solving.suppose import Releases
from rellum.core.solving.trial_book import TrialBook
from rellum.core.values.ids import ModId, ReleaseName
from rellum.core.versions.version import Version
from rellum.core.workers import run_both

MOST_WORK = 60_000_000
"""The work on one version, in looks at clauses: some ten seconds."""
Status = Literal["ready", "tried", "other", "back", "gone", "unknown"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Cell:
    """How a mod stands on a game version.

    ``ready``: the release that is in the line-up; ``other``: another release of it; ``tried``: a
    release that does not declare this version, by a trial; ``back``: it holds the pack back and would
    have to be given up; ``gone``: it is no longer needed there; ``unknown``: no line-up was found.
    """

    mod: ModId
    status: Status
    release: ReleaseName | None = None
    trial: Trial | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class GivenUp:
    """A want that cannot be had beside the others, and why not."""

    mod: ModId
    statements: tuple[Statement, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class VersionOutlook:
    """A version of the game: the cells of all mods, in one order for all versions.

    ``give_up`` are the fewest wants without which there is a line-up, each with the statements that
    say why it cannot be had beside the others; None where it would take too many, or where the version was
    not worked out: that takes more work than is given to one.
    """

    game: Version
    is_now: bool
    cells: tuple[Cell, ...]
    give_up: tuple[GivenUp, ...] | None
    is_worked_out: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Outlook:
    """The versions of the game, oldest first."""

    mods: tuple[ModId, ...]
    wanted: frozenset[ModId]
    versions: tuple[VersionOutlook, ...]


def look_out(problem: Problem, now: Releases, most: int = MOST_WORK) -> Outlook:
    """Search a line-up for each known version of the game; ``now`` is the one that stands.

    ``most`` is what one version may cost, in looks at clauses. Every other version is looked at by a second
    process where that is possible; what is said does not depend on that.
    """
    games = games_of(problem)

    def of(versions: Sequence[Version]) -> list[VersionOutlook]:
        look = _Look(problem, now)
        return [look.at(version, most) for version in versions]

    evens, odds = run_both(lambda: of(games[::2]), lambda: of(games[1::2]))
    return Outlook(
        mods=_mods(problem, now),
        wanted=frozenset(want.mod for want in problem.wants),
        versions=tuple(sorted((*evens, *odds), key=lambda each: each.game)),
    )


def _mods(problem: Problem, now: Releases) -> tuple[ModId, ...]:
    return tuple(dict.fromkeys([*(want.mod for want in problem.wants), *now]))


class _Look:
    """Looks at one version after another."""

    def __init__(self, problem: Problem, now: Releases) -> None:
        self.problem = problem
        self.now = now
        self.mods = _mods(problem, now)
        self.book = TrialBook(problem.trials, "tried")
        self.searcher = Searcher(problem)

    def at(self, version: Version, most: int) -> VersionOutlook:
        """Return how all mods stand on a version of the game, as far as the work suffices."""
        self.searcher.work = Work(most)
        try:
            return self._worked_out(version)
        except OutOfWork:
            return VersionOutlook(
                game=version,
                is_now=version in self.problem.games,
                cells=self._unknown(),
                give_up=None,
                is_worked_out=False,
            )

    def _unknown(self) -> tuple[Cell, ...]:
        return tuple(Cell(mod=mod, status="unknown") for mod in self.mods)

    def _worked_out(self, version: Version) -> VersionOutlook:
        there = replace(self.problem, games=(version,))
        chosen = self._line_up(there)
        give_up: tuple[GivenUp, ...] | None = ()
        if chosen is None:
            fewest = fewest_to_give_up(self.searcher, there)
            give_up = None if fewest is None else tuple(_reasons(self.searcher, there, fewest))
            chosen = self._line_up(without(there, *fewest)) if fewest else None
        cells = self._unknown()
        if chosen is not None:
            given_up = {each.mod for each in give_up or ()}
            cells = tuple(
                _cell(
                    mod, self.now.get(mod), chosen[mod], trial_for(chosen[mod], version, self.book)
                )
                if mod in chosen
                else Cell(mod=mod, status="back" if mod in given_up else "gone")
                for mod in self.mods
            )
        return VersionOutlook(
            game=version, is_now=version in self.problem.games, cells=cells, give_up=give_up
        )

    def _line_up(self, problem: Problem) -> Releases | None:
        """Return the best line-up for a version, None where there is none. Raises OutOfWork."""
        found = self.searcher.search(problem, tells=False)
        return chosen_releases(self.searcher, found) if isinstance(found, Found) else None


def _reasons(searcher: Searcher, problem: Problem, fewest: tuple[Want, ...]) -> Iterator[GivenUp]:
    """Say of each want to give up why it cannot be had beside those that stay."""
    for want in fewest:
        others = [each for each in fewest if each is not want]
        refused = searcher.search(without(problem, *others))
        statements: tuple[Statement, ...] = ()
        if isinstance(refused, NotFound):
            found = reason_of(searcher, refused).causes
            worth_saying = [each for each in found if not _goes_without_saying(each, want)]
            statements = tell(worth_saying, want.mod)
        yield GivenUp(mod=want.mod, statements=statements)


def _goes_without_saying(cause: Cause, want: Want) -> bool:
    """Whether a cause only repeats what the table says: the game, and that this mod is wanted."""
    if isinstance(cause, causes.Wanted):
        return cause.want.mod == want.mod and want.range.is_any
    return isinstance(cause, causes.GameIs)


def _cell(mod: ModId, now: Release | None, then: Release, trial: Trial | None) -> Cell:
    status: Status = "tried" if trial else "ready" if then == now else "other"
    name = ReleaseName(mod, then.version.text, then.build)
    return Cell(mod=mod, status=status, release=name, trial=trial)
