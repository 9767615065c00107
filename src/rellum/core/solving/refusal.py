"""When there is no line-up: the fewest wants and statements that cannot hold together.

Found by leaving out: first whole wants, then holds, then one requirement between two mods after
another; whatever can be left out without a line-up appearing had no part in the refusal.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

from rellum.core.catalog.model import Mod, Release, Requirement
from rellum.core.ids import ModId
from rellum.core.solving.candidates import unfit_for
from rellum.core.solving.problem import Hold, Problem, Refusal, Statement, Want

Solvable = Callable[[Problem], bool]


def explain(problem: Problem, solvable: Solvable) -> Refusal:
    """Reduce a problem without a line-up to its core, and put that into statements."""
    for want in problem.wants:
        fewer = tuple(each for each in problem.wants if each is not want)
        problem = _reduced(problem, replace(problem, wants=fewer), solvable)
    for hold in problem.holds:
        without = tuple(each for each in problem.holds if each is not hold)
        problem = _reduced(problem, replace(problem, holds=without), solvable)
    problem = replace(problem, mods=_reachable(problem))
    for pair in sorted(_requirement_pairs(problem)):
        problem = _reduced(problem, _without_pair(problem, pair), solvable)
    return Refusal(wants=problem.wants, statements=tuple(_statements(problem)))


def _reduced(problem: Problem, smaller: Problem, solvable: Solvable) -> Problem:
    return problem if solvable(smaller) else smaller


def _reachable(problem: Problem) -> dict[ModId, Mod]:
    """Return the mods that the wants can bring in, in the order in which they come in."""
    found: dict[ModId, Mod] = {}
    waiting = [want.mod for want in problem.wants]
    while waiting:
        mod = problem.mods.get(waiting.pop(0))
        if mod is None or mod.id in found:
            continue
        found[mod.id] = mod
        waiting += [need.mod for release in mod.releases for need in release.needs]
    return found


Pair = tuple[str, ModId, ModId]


def _requirement_pairs(problem: Problem) -> set[Pair]:
    return {
        (kind, mod.id, requirement.mod)
        for mod in problem.mods.values()
        for release in mod.releases
        for kind, requirement in _requirements(release)
    }


def _requirements(release: Release) -> Iterator[tuple[str, Requirement]]:
    for need in release.needs:
        yield "needs", need
    for clash in release.clashes:
        yield "clashes", clash


def _without_pair(problem: Problem, pair: Pair) -> Problem:
    kind, owner, other = pair

    def strip(release: Release) -> Release:
        if kind == "needs":
            return replace(release, needs=tuple(n for n in release.needs if n.mod != other))
        return replace(release, clashes=tuple(c for c in release.clashes if c.mod != other))

    mod = problem.mods[owner]
    stripped = replace(mod, releases=tuple(strip(each) for each in mod.releases))
    return replace(problem, mods={**problem.mods, owner: stripped})


def _statements(problem: Problem) -> Iterator[Statement]:
    """Tell what is left of the problem: wants, holds, then each release's own statements."""
    for want in problem.wants:
        yield _of_want(want)
    held = {hold.mod: hold for hold in problem.holds}
    for hold in problem.holds:
        yield _of_hold(hold)
    wanted = {want.mod: want.range for want in problem.wants}
    relevant = _reachable(problem)
    for mod in relevant.values():
        for release in mod.releases:
            in_range = mod.id not in wanted or release.version in wanted[mod.id]
            if in_range and (mod.id not in held or release.version == held[mod.id].version):
                yield from _of_release(problem, release, asked_for=mod.id in held)
    for missing in sorted(_needed_without_card(problem)):
        yield Statement(text=f"no card in the catalog is for {missing}", source=None)
    yield from _of_empty_wants(problem)


def _of_want(want: Want) -> Statement:
    which = "" if want.range.is_any else f" {want.range}"
    return Statement(text=f"the pack wants {want.mod}{which}", source=want.source)


def _of_hold(hold: Hold) -> Statement:
    reason = f" ({hold.reason})" if hold.reason else ""
    return Statement(
        text=f"the pack holds {hold.mod} at {hold.version}{reason}", source=hold.source
    )


def _of_release(problem: Problem, release: Release, *, asked_for: bool) -> Iterator[Statement]:
    unfit = unfit_for(problem.game, release)
    if unfit is not None:
        yield unfit
        return
    ranges = [want.range for want in problem.wants if want.mod == release.mod]
    named = asked_for or any(each.names_prerelease for each in ranges)
    if release.version.is_prerelease and not named:
        yield Statement(
            text=f"{release.mod} {release.version} is a pre-release, "
            "taken only where a want or hold names one",
            source=release.source,
        )
        return
    for kind, requirement in _requirements(release):
        verb = "needs" if kind == "needs" else "clashes with"
        which = "" if requirement.range.is_any else f" {requirement.range}"
        yield Statement(
            text=f"{release.mod} {release.version} {verb} {requirement.mod}{which}",
            source=requirement.source,
        )


def _needed_without_card(problem: Problem) -> set[ModId]:
    return {
        need.mod
        for mod in _reachable(problem).values()
        for release in mod.releases
        for need in release.needs
        if need.mod not in problem.mods
    }


def _of_empty_wants(problem: Problem) -> Iterator[Statement]:
    """Say which releases there are, where a want or hold allows none of them."""
    for mod in _reachable(problem).values():
        ranges = [want.range for want in problem.wants if want.mod == mod.id]
        versions = [hold.version for hold in problem.holds if hold.mod == mod.id]
        left = [
            release
            for release in mod.releases
            if all(release.version in each for each in ranges)
            and all(release.version == each for each in versions)
        ]
        if (ranges or versions) and not left:
            known = ", ".join(str(release.version) for release in mod.releases)
            yield Statement(text=f"{mod.id} has only {known}", source=mod.source.at("release"))
