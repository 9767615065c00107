"""From a problem to its line-up, or to a refusal that explains itself."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import replace

from rellum.core.catalog.model import Release, Trial
from rellum.core.solving.load_order import sort_for_loading
from rellum.core.solving.problem import Chosen, Game, LineUp, Locked, Problem
from rellum.core.solving.prover import OutOfWork
from rellum.core.solving.search import Found, NotFound, Searcher
from rellum.core.solving.trial_book import TrialBook
from rellum.core.solving.variables import GroupVariable, ModVariable
from rellum.core.values.chosen_options import Options
from rellum.core.values.ids import ModId
from rellum.core.versions.version import Version


def solve(problem: Problem) -> tuple[Searcher, LineUp | NotFound]:
    """Return the best line-up for a problem, or what stands against it, and who can say more of it.

    Where the pack has one version of the game, a search looks at what is for that alone. Else it is tried
    first whether all that the lock has can stay as it is: that looks at one release of most mods, and where
    it succeeds it is the best, as to stay comes before all that is free to choose. Where neither leads to
    a line-up, a search looks at everything, so that reasons can be told.
    """
    if problem.locked and len(problem.games) > 1:  # the game is a part of the choice
        kept = _can_stay(problem)
        searcher = Searcher(problem, kept=kept, tells=False)
        found = searcher.search(problem, tells=False)
        if isinstance(found, Found) and _stayed(searcher, problem, found, kept):
            return searcher, as_line_up(searcher, problem, found)
    if len(problem.games) == 1:
        searcher = Searcher(problem, is_quick=True, tells=False)
        line_up = _found_quickly(searcher, problem)
        if line_up is not None:
            return searcher, line_up
    searcher = Searcher(problem)
    return searcher, find_line_up(searcher, problem)


def _found_quickly(searcher: Searcher, problem: Problem) -> LineUp | None:
    """Return the best line-up for a problem; None: there is none, or that takes more than a quick look."""
    try:
        found = find_line_up(searcher, problem)
    except OutOfWork:
        return None
    return None if isinstance(found, NotFound) else found


def _can_stay(problem: Problem) -> dict[ModId, Locked]:
    """Return the lock without what a want or hold rules out by itself."""
    ranges = {want.mod: want.range for want in problem.wants if not want.optional}
    held = {hold.mod: hold.version for hold in problem.holds}
    return {
        mod: locked
        for mod, locked in problem.locked.items()
        if (mod not in ranges or locked.version in ranges[mod])
        and (mod not in held or locked.version == held[mod])
    }


def _stayed(
    searcher: Searcher, problem: Problem, found: Found, kept: Mapping[ModId, Locked]
) -> bool:
    """Whether all of the lock is in, with its options: then nothing was given up by looking only at that."""
    chosen = chosen_releases(searcher, found)
    options = _chosen_options(searcher, found)
    for mod in chosen.keys() & kept.keys():
        if dict(options.get(mod, ())) != dict(kept[mod].options):
            return False
    return problem.locked.keys() <= chosen.keys()


def find_line_up(searcher: Searcher, problem: Problem) -> LineUp | NotFound:
    """Return the best line-up for a problem, looking at every release that the searcher looks at.

    A release of the lock that leaves has no more say: where one does, the search is repeated without
    it, so that resolving again changes nothing.
    """
    found = searcher.search(problem)
    while isinstance(found, Found):
        staying = chosen_releases(searcher, found).keys()
        if problem.locked.keys() <= staying:
            break
        locked = {mod: each for mod, each in problem.locked.items() if mod in staying}
        problem = replace(problem, locked=locked)
        found = searcher.search(problem)
    return found if isinstance(found, NotFound) else as_line_up(searcher, problem, found)


def as_line_up(searcher: Searcher, problem: Problem, found: Found) -> LineUp:
    """Put what was found in load order, with what each release is there for."""
    releases = chosen_releases(searcher, found)
    options = _chosen_options(searcher, found)
    by_option = _needs_of_options(searcher, found)
    wanted = {want.mod for want in problem.wants}
    because = needed_by(releases, by_option)
    book = TrialBook(problem.trials, "tried")
    pack_order = tuple(want.mod for want in problem.wants)
    chosen = tuple(
        Chosen(
            release=release,
            because=() if release.mod in wanted else tuple(because[release.mod]),
            options=options.get(release.mod, ()),
            trial=trial_for(release, found.game, book),
        )
        for release in sort_for_loading(tuple(releases.values()), pack_order)
    )
    return LineUp(
        game=Game(version=found.game, edition=problem.edition, expansions=problem.expansions),
        chosen=chosen,
        left_out=tuple(want for want in problem.wants if want.mod not in releases),
    )


def chosen_releases(searcher: Searcher, found: Found) -> dict[ModId, Release]:
    """Return the releases found by mod, in the order in which they came in."""
    releases = {}
    for number, value in found.values.items():
        variable = searcher.rules.by_number[number]
        if isinstance(variable, ModVariable):
            releases[variable.id] = variable.release(value)
    return releases


def _chosen_options(searcher: Searcher, found: Found) -> dict[ModId, Options]:
    chosen: dict[ModId, dict[str, tuple[str, ...]]] = defaultdict(dict)
    for number, value in found.values.items():
        variable = searcher.rules.by_number[number]
        if isinstance(variable, GroupVariable):
            names = chosen[variable.owner.id]
            choice = variable.choices[value - 1]
            before = names.get(variable.group.id, ())
            names[variable.group.id] = (*before, choice.id) if choice else before
    return {mod: tuple(sorted(groups.items())) for mod, groups in chosen.items()}


def _needs_of_options(searcher: Searcher, found: Found) -> dict[ModId, set[ModId]]:
    """Return the mods that the options chosen of a mod need."""
    needed: dict[ModId, set[ModId]] = defaultdict(set)
    for number, value in found.values.items():
        variable = searcher.rules.by_number[number]
        choice = variable.choices[value - 1] if isinstance(variable, GroupVariable) else None
        if isinstance(variable, GroupVariable) and choice is not None:
            for need in choice.needs:
                needed[variable.owner.id] |= {each.mod for each in need.any_of}
    return needed


def needed_by(
    releases: Mapping[ModId, Release], by_option: Mapping[ModId, set[ModId]]
) -> dict[ModId, list[ModId]]:
    """Return, for each mod, those of the line-up that need it or what it stands in for."""
    stand_ins: dict[ModId, list[ModId]] = defaultdict(list)
    for release in releases.values():
        for offer in release.offers:
            stand_ins[offer.mod].append(release.mod)
    found: dict[ModId, list[ModId]] = defaultdict(list)
    for release in releases.values():
        named = [each.mod for need in release.needs for each in need.any_of]
        for mod in dict.fromkeys([*named, *sorted(by_option.get(release.mod, ()))]):
            for meant in (mod, *stand_ins.get(mod, ())):
                if meant in releases and meant != release.mod and release.mod not in found[meant]:
                    found[meant].append(release.mod)
    return found


def trial_for(release: Release, game: Version, book: TrialBook) -> Trial | None:
    """Return the trial that a release rests on, where it does not declare the game's version."""
    return next((each for each in book.working(release) if each.game == game), None)
