"""Releases that their own cards rule out with the game as it is, or what the pack asks of their mod.

No search is needed for that, and nothing is shorter to say. Most newer releases that cannot be taken are for
a newer version of the game.
"""

from __future__ import annotations

from collections.abc import Iterator

from rellum.core.catalog.model import Release
from rellum.core.solving import causes
from rellum.core.solving.causes import Cause
from rellum.core.solving.problem import Problem
from rellum.core.solving.search import make_fixed_rules
from rellum.core.values.ids import ModId

_FIRST = (
    causes.ForGame, causes.ForExpansion, causes.ForEditions, causes.Withdrawn, causes.Unfinished,
    causes.Prerelease,
)  # fmt: skip
"""Of several causes, the one that is told."""


class LeftOut:
    """Says what leaves the releases of a mod out, for a problem with one version of the game."""

    def __init__(self, problem: Problem, mod: ModId) -> None:
        self._problem = problem
        self._rules = make_fixed_rules(problem)
        self._variable = self._rules.read_alone(mod)

    def by(self, release: Release) -> tuple[Cause, ...]:
        """Return what leaves a release out: its card and the game, else the pack; none: nothing does."""
        variable = self._variable
        if variable is None:
            return ()
        found = list(self._rules.left_out_by(variable, variable.mask_of([release])))
        if found:
            said = min(found, key=lambda each: _FIRST.index(type(each)))
            return (said, *self._of_the_game(said))
        return tuple(self._asked_otherwise(release))[:1]

    def _asked_otherwise(self, release: Release) -> Iterator[Cause]:
        """Yield what the pack asks of the mod that the release is not."""
        for hold in self._problem.holds:
            if hold.mod == release.mod and hold.version != release.version:
                yield causes.Held(hold)
        for want in self._problem.wants:
            if want.mod == release.mod and release.version not in want.range:
                yield causes.Wanted(want)

    def _of_the_game(self, said: Cause) -> tuple[Cause, ...]:
        """Return what of the game contradicts what a card says."""
        problem = self._problem
        if isinstance(said, causes.ForGame):
            return (causes.GameIs(problem.games),)
        if isinstance(said, causes.ForEditions):
            return (causes.EditionIs(problem.edition),)
        if isinstance(said, causes.ForExpansion):
            there = said.expansion in problem.expansions
            return (causes.ExpansionIs(said.expansion, there),)
        return ()
