"""For every known game version: which mods are ready, and which block it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Literal

from rellum.core.catalog.model import Release, Trial
from rellum.core.solving import causes
from rellum.core.solving.causes import Cause
from rellum.core.solving.giving_up import fewest_to_give_up
from rellum.core.solving.problem import Problem, Statement, Want
from rellum.core.solving.prover import OutOfWork, Work
from rellum.core.solving.refusal import reason_of, without
from rellum.core.solving.search import Found, NotFound, Searcher
from rellum.core.solving.sentences import tell
from rellum.core.solving.solve import chosen_releases, trial_for
from rellum.core.solving.suppose import Releases
from rellum.core.solving.trial_book import TrialBook
from rellum.core.values.ids import ModId
from rellum.core.versions.version import Version

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
    release: Release | None = None
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


def look_out(searcher: Searcher, problem: Problem, now: Releases, most: int = MOST_WORK) -> Outlook:
    """Search a line-up for each known version of the game; ``now`` is the one that stands.

    ``most`` is what one version may cost, in looks at clauses.
    """
    wants = [want.mod for want in problem.wants]
    mods = tuple(dict.fromkeys([*wants, *now]))
    book = TrialBook(problem.trials, "tried")
    versions = []
    for version in searcher.surroundings.games:
        searcher.work = Work(most)
        try:
            found = _of_version(searcher, problem, now, mods, version, book)
        except OutOfWork:
            found = VersionOutlook(
                game=version,
                is_now=version in problem.games,
                cells=tuple(Cell(mod=mod, status="unknown") for mod in mods),
                give_up=None,
                is_worked_out=False,
            )
        finally:
            searcher.work = None
        versions.append(found)
    return Outlook(mods=mods, wanted=frozenset(wants), versions=tuple(versions))


def _of_version(
    searcher: Searcher,
    problem: Problem,
    now: Releases,
    mods: tuple[ModId, ...],
    version: Version,
    book: TrialBook,
) -> VersionOutlook:
    there = replace(problem, games=(version,))
    found = searcher.search(there)
    give_up: tuple[GivenUp, ...] | None = ()
    if not isinstance(found, Found):
        fewest = fewest_to_give_up(searcher, there)
        give_up = None if fewest is None else tuple(_reasons(searcher, there, fewest))
        there = without(there, *(fewest or ()))
        found = searcher.search(there)
    cells = tuple(Cell(mod=mod, status="unknown") for mod in mods)
    if isinstance(found, Found):
        chosen = chosen_releases(searcher, found)
        given_up = {each.mod for each in give_up or ()}
        cells = tuple(
            _cell(mod, now.get(mod), chosen[mod], trial_for(chosen[mod], version, book))
            if mod in chosen
            else Cell(mod=mod, status="back" if mod in given_up else "gone")
            for mod in mods
        )
    return VersionOutlook(
        game=version, is_now=version in problem.games, cells=cells, give_up=give_up
    )


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
    return Cell(mod=mod, status=status, release=then, trial=trial)
