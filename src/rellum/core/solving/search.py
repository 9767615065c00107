"""The search for a line-up: complete backtracking, in the order that a curator can follow.

Mods are decided in the pack's order, then what those need, in the order in which it comes in; of
each mod the release in the lock is tried first, then the newest. The first complete answer is
taken. Every mod in the answer is wanted or needed, so nothing comes in that nobody asked for.
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
    """A mod to decide, the releases not yet tried, and what was to do when it was reached."""

    mod: ModId
    untried: list[Release]
    waiting: tuple[ModId, ...]


class _Search:
    """Iterative, so that a long chain of needs meets no recursion limit."""

    def __init__(self, candidates: Candidates) -> None:
        self.candidates = candidates
        self.taken: dict[ModId, Release] = {}

    def run(self, wanted: tuple[ModId, ...]) -> dict[ModId, Release] | None:
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
        return _Step(mod=waiting[0], untried=untried, waiting=waiting[1:])

    def _advance(self, steps: list[_Step]) -> tuple[ModId, ...] | None:
        """Take the next release that agrees, going back where there is none."""
        while steps:
            step = steps[-1]
            self.taken.pop(step.mod, None)
            while step.untried:
                release = step.untried.pop()
                if self._agrees(release):
                    self.taken[step.mod] = release
                    needed = tuple(need.mod for need in release.needs)
                    return tuple(dict.fromkeys(step.waiting + needed))
            steps.pop()
        return None

    def _agrees(self, release: Release) -> bool:
        """Whether a release and all those taken allow each other."""
        if not all(self._can_still_meet(need) for need in release.needs):
            return False
        if any(_hits(clash, self.taken.get(clash.mod)) for clash in release.clashes):
            return False
        for other in self.taken.values():
            if any(_misses(need, release) for need in other.needs):
                return False
            if any(_hits(clash, release) for clash in other.clashes):
                return False
        return True

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
