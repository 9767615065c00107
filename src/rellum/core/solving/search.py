"""The search for a line-up: complete, in the order that a curator can follow.

Mods are decided in the pack's order, then what those need, in the order in which it comes in; of
each mod the release in the lock is tried first, then the newest. The first complete answer is
taken. Every mod in the answer is wanted or needed, so nothing comes in that nobody asked for.

Where a mod has no release left, the search goes back to the latest decision that had a part in
that, and passes over those in between, whatever they were: conflict-directed backjumping (Prosser,
"Hybrid algorithms for the constraint satisfaction problem", 1993). That leaves out only what cannot
hold an answer, so the answer found is the same as without it.
"""

from __future__ import annotations

from dataclasses import dataclass

from rellum.core.catalog.model import Release, Requirement
from rellum.core.ids import ModId
from rellum.core.solving.candidates import Candidates, find_candidates
from rellum.core.solving.load_order import sort_for_loading
from rellum.core.solving.problem import Chosen, LineUp, Problem, Refusal
from rellum.core.solving.refusal import explain


def solve(problem: Problem) -> LineUp | Refusal:
    """Find the line-up, or say which wants stand against each other.

    Raises LoadCycle where the releases chosen cannot be put in a load order.
    """
    found = find_releases(problem)
    if found is None:
        return explain(problem, lambda smaller: find_releases(smaller) is not None)
    order = sort_for_loading(tuple(found.values()), tuple(want.mod for want in problem.wants))
    chosen = tuple(Chosen(release=each, because=_needed_by(each.mod, found)) for each in order)
    return LineUp(game=problem.game, chosen=chosen)


def find_releases(problem: Problem) -> dict[ModId, Release] | None:
    """Return a release for every mod wanted or needed, or None where no choice holds."""
    wanted = tuple(want.mod for want in problem.wants)
    return _Search(find_candidates(problem)).run(wanted)


@dataclass(slots=True)
class _Step:
    """A mod to decide, the releases not yet tried, and what was to do when it was reached.

    ``objectors`` are the mods decided before whose releases had a part in what was tried in vain.
    """

    mod: ModId
    untried: list[Release]
    waiting: tuple[ModId, ...]
    objectors: set[ModId]


class _Search:
    """Iterative, so that a long chain of needs meets no recursion limit."""

    def __init__(self, candidates: Candidates) -> None:
        self.candidates = candidates
        self.wanted: frozenset[ModId] = frozenset()
        self.taken: dict[ModId, Release] = {}

    def run(self, wanted: tuple[ModId, ...]) -> dict[ModId, Release] | None:
        self.wanted = frozenset(wanted)
        waiting = wanted
        steps: list[_Step] = []
        while True:
            waiting = tuple(mod for mod in waiting if mod not in self.taken)
            if not waiting:
                return self.taken
            steps.append(self._step(waiting))
            advanced = self._advance(steps)
            if advanced is None:
                return None
            waiting = advanced

    def _step(self, waiting: tuple[ModId, ...]) -> _Step:
        untried = list(reversed(self.candidates.of(waiting[0])))
        return _Step(mod=waiting[0], untried=untried, waiting=waiting[1:], objectors=set())

    def _advance(self, steps: list[_Step]) -> tuple[ModId, ...] | None:
        """Take the next release that agrees, going back where there is none."""
        while steps:
            step = steps[-1]
            self.taken.pop(step.mod, None)
            while step.untried:
                release = step.untried.pop()
                objectors = self._objectors(release)
                if objectors is None:
                    self.taken[step.mod] = release
                    needed = tuple(need.mod for need in release.needs)
                    return tuple(dict.fromkeys(step.waiting + needed))
                step.objectors |= objectors
            self._go_back(steps)
        return None

    def _go_back(self, steps: list[_Step]) -> None:
        """Undo decisions down to the latest that had a part in the last one's failing."""
        failed = steps.pop()
        to_blame = failed.objectors | self._brought_in_by(failed.mod)
        while steps and steps[-1].mod not in to_blame:
            self.taken.pop(steps.pop().mod, None)
        if steps:
            steps[-1].objectors |= to_blame - {steps[-1].mod}

    def _brought_in_by(self, mod: ModId) -> set[ModId]:
        """Return a mod taken that needs this one; none where the pack wants it."""
        if mod in self.wanted:
            return set()
        needing = (
            each.mod for each in self.taken.values() if any(n.mod == mod for n in each.needs)
        )
        return {next(needing)}

    def _objectors(self, release: Release) -> set[ModId] | None:
        """Return a mod that keeps a release out (none: it keeps itself out), or None if all agree."""
        for need in release.needs:
            if not self._can_still_meet(need):
                return {need.mod} & self.taken.keys()
        for clash in release.clashes:
            if _hits(clash, self.taken.get(clash.mod)):
                return {clash.mod}
        for other in self.taken.values():
            if any(_misses(need, release) for need in other.needs):
                return {other.mod}
            if any(_hits(clash, release) for clash in other.clashes):
                return {other.mod}
        return None

    def _can_still_meet(self, need: Requirement) -> bool:
        taken = self.taken.get(need.mod)
        if taken is not None:
            return taken.version in need.range
        return any(each.version in need.range for each in self.candidates.of(need.mod))


def _hits(clash: Requirement, release: Release | None) -> bool:
    return release is not None and release.mod == clash.mod and release.version in clash.range


def _misses(need: Requirement, release: Release) -> bool:
    return release.mod == need.mod and release.version not in need.range


def _needed_by(mod: ModId, found: dict[ModId, Release]) -> tuple[ModId, ...]:
    return tuple(each.mod for each in found.values() if any(need.mod == mod for need in each.needs))
