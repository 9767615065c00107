"""The consequences of taking a certain release: what else would change, or why it is impossible."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import cached_property

from rellum.core.catalog.model import Release
from rellum.core.solving import causes
from rellum.core.solving.at_once import AtOnce
from rellum.core.solving.left_out import LeftOut
from rellum.core.solving.problem import Problem
from rellum.core.solving.prover import OutOfWork, Work
from rellum.core.solving.refusal import Reason, against, explain, reason_of
from rellum.core.solving.search import NotFound, Searcher, Supposition
from rellum.core.solving.solve import chosen_releases
from rellum.core.solving.variables import ModVariable
from rellum.core.values.ids import ModId

Releases = Mapping[ModId, Release]


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """A mod whose release would be another; None: it is not in the line-up before, or after."""

    mod: ModId
    before: Release | None
    after: Release | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """What taking a release would do. ``reason`` None: it can be taken, with these other changes."""

    release: Release
    changes: tuple[Change, ...]
    reason: Reason | None

    @property
    def is_free(self) -> bool:
        """Whether it can be taken and nothing else would change."""
        return self.reason is None and not self.changes


def suppose(
    searcher: Searcher,
    problem: Problem,
    release: Release,
    now: Releases,
    work: Work | None = None,
) -> Outcome:
    """Take a release beside all that the pack asks for; ``now`` is the line-up to compare with.

    ``work`` is what a reason against it may cost; None: it is sought like that of a refusal. The mod must be
    one that the problem's wants can bring in.
    """

    def reason(found: NotFound) -> Reason:
        return reason_of(searcher, found, work) if work else explain(searcher, found).reason

    return _taken(searcher, problem, release, now, reason)


class Supposer:
    """Says what taking releases would do in a line-up that stands.

    A search is made only where it takes one, and where the pack's game is known it looks at what is for that
    game alone. Whole reasons are sought by a searcher that looks at everything, made when it is needed.
    """

    def __init__(self, problem: Problem, now: Releases) -> None:
        self.problem = problem
        self.now = now
        self._searcher: Searcher | None = None
        self._left_out: dict[ModId, LeftOut] = {}

    @cached_property
    def _quick(self) -> AtOnce | None:
        """What answers for the game as it is; None: too hard, or the game is a part of the choice."""
        if len(self.problem.games) == 1:
            with suppress(OutOfWork):
                return AtOnce(Searcher(self.problem, is_quick=True), self.problem, self.now)
        return None

    @property
    def searcher(self) -> Searcher:
        """One that looks at everything."""
        if self._searcher is None:
            self._searcher = Searcher(self.problem)
        return self._searcher

    @cached_property
    def _whole(self) -> AtOnce:
        return AtOnce(self.searcher, self.problem, self.now)

    def variable(self, mod: ModId) -> ModVariable | None:
        """Return a mod's variable; None: nothing that the pack asks for can bring it in."""
        found = self._quick.searcher.rules.mods.get(mod) if self._quick else None
        return found or self.searcher.rules.mods.get(mod)

    def left_out(self, release: Release) -> Outcome | None:
        """Say in full what rules a release out by itself: its card, or what is asked of it; None: nothing."""
        if len(self.problem.games) > 1:
            return None
        mod = release.mod
        if mod not in self._left_out:
            self._left_out[mod] = LeftOut(self.problem, mod)
        found = self._left_out[mod].by(release)
        return Outcome(release=release, changes=(), reason=Reason(found)) if found else None

    def quickly(self, release: Release) -> Outcome:
        """Say what taking a release would do; a reason is only what speaks of the release itself."""
        quick = self._quick
        if quick is not None and release.mod in quick.searcher.rules.mods:
            with suppress(OutOfWork):
                return _at_once(quick, self.problem, release, self.now)
        return _at_once(self._whole, self.problem, release, self.now)

    def costs_more_than(self, work: int) -> bool:
        """Whether to look at everything costs more than so much work, in looks at clauses."""
        if self._quick is None or self._searcher is not None:  # it is made
            return work <= 0
        return self._quick.searcher.cost > work

    def in_full(self, release: Release, work: Work | None = None) -> Outcome:
        """Say the same; a reason is all that cannot hold with the release, sought with so much work."""
        return suppose(self.searcher, self.problem, release, self.now, work)


def _at_once(at_once: AtOnce, problem: Problem, release: Release, now: Releases) -> Outcome:
    """Say what taking a release would do, by a search only where it takes one."""
    searcher = at_once.searcher
    refused = at_once.refusal(release)
    if refused is not None:
        return Outcome(release=release, changes=(), reason=refused)
    leaving = at_once.leaving(release)
    if leaving is not None:
        changes = tuple(Change(mod=mod, before=now[mod], after=None) for mod in sorted(leaving))
        return Outcome(release=release, changes=changes, reason=None)

    def reason(found: NotFound) -> Reason:
        variable = searcher.rules.mods[release.mod]
        return against(found.clauses, variable, variable.mask_of([release]))

    return _taken(searcher, problem, release, now, reason)


def _taken(
    searcher: Searcher,
    problem: Problem,
    release: Release,
    now: Releases,
    reason: Callable[[NotFound], Reason],
) -> Outcome:
    """Search with a release supposed; say what else would change, or what stands against it."""
    variable = searcher.rules.mods[release.mod]
    extra = Supposition(variable.number, variable.mask_of([release]), causes.Supposed(release))
    locked = {mod: each for mod, each in problem.locked.items() if mod != release.mod}
    found = searcher.search(replace(problem, locked=locked), [extra])
    if isinstance(found, NotFound):
        return Outcome(release=release, changes=(), reason=reason(found))
    others = {mod: each for mod, each in now.items() if mod != release.mod}
    after = _with_fewest_moves(searcher, problem, [extra], others, chosen_releases(searcher, found))
    changes = tuple(each for each in compare(now, after) if each.mod != release.mod)
    return Outcome(release=release, changes=changes, reason=None)


def _with_fewest_moves(
    searcher: Searcher,
    problem: Problem,
    extras: list[Supposition],
    now: Releases,
    after: Releases,
) -> Releases:
    """Return the line-up in which as many as possible of those that moved stay as they are.

    The search prefers newer releases where it may choose; what need not move is no news.
    """
    asked = tuple(searcher.suppose(problem))
    moved = [mod for mod, each in after.items() if mod in now and now[mod] != each]
    for mod in moved:
        if mod not in searcher.rules.mods:
            continue
        variable = searcher.rules.mods[mod]
        mask = variable.mask_of([now[mod]])
        if not mask:
            continue
        stays = Supposition(variable.number, mask, causes.Supposed(now[mod]))
        if not searcher.stand([*asked, *extras, stays]):
            continue  # that it moves follows at once, as of most
        found = searcher.search(problem, [*extras, stays], tells=False)
        if not isinstance(found, NotFound):
            extras.append(stays)
            after = chosen_releases(searcher, found)
    return after


def compare(before: Releases, after: Releases) -> list[Change]:
    """Return what differs between two line-ups, by mod."""
    return [
        Change(mod=mod, before=before.get(mod), after=after.get(mod))
        for mod in sorted(before.keys() | after.keys())
        if before.get(mod) != after.get(mod)
    ]
