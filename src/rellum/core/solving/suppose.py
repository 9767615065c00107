"""The consequences of taking a certain release: what else would change, or why it is impossible."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from rellum.core.catalog.model import Release
from rellum.core.solving import causes
from rellum.core.solving.problem import Problem
from rellum.core.solving.refusal import THOROUGH, Reason, reason_of
from rellum.core.solving.search import NotFound, Searcher, Supposition
from rellum.core.solving.solve import chosen_releases
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
    searcher: Searcher, problem: Problem, release: Release, now: Releases, most: int = THOROUGH
) -> Outcome:
    """Take a release beside all that the pack asks for; ``now`` is the line-up to compare with.

    A reason against it is reduced with work of up to ``most``.

    The mod must be one that the problem's wants can bring in.
    """
    variable = searcher.rules.mods[release.mod]
    mask = variable.mask_of([release])
    extra = Supposition(variable.number, mask, causes.Supposed(release))
    locked = {mod: each for mod, each in problem.locked.items() if mod != release.mod}
    found = searcher.search(replace(problem, locked=locked), [extra])
    if isinstance(found, NotFound):
        return Outcome(release=release, changes=(), reason=reason_of(searcher, found, most))
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
    moved = [mod for mod, each in after.items() if mod in now and now[mod] != each]
    for mod in moved:
        if mod not in searcher.rules.mods:
            continue
        variable = searcher.rules.mods[mod]
        if now[mod] not in variable.mod.releases:
            continue
        stays = Supposition(
            variable.number, variable.mask_of([now[mod]]), causes.Supposed(now[mod])
        )
        found = searcher.search(problem, [*extras, stays])
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
