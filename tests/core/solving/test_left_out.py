"""What rules a release out by itself: all that does, and nothing else."""

from __future__ import annotations

import unittest
from dataclasses import replace
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.catalog.model import Release
from rellum.core.solving import causes
from rellum.core.solving.left_out import LeftOut
from rellum.core.solving.problem import Problem
from rellum.core.solving.search import NotFound, Searcher, Supposition
from rellum.core.versions.ranges import parse_range
from tests.core.solving.worlds import random_problem, wanting

randoms = st.integers(0, 2**32).map(Random)


def is_ruled_out(problem: Problem, release: Release) -> bool:
    """Say the same from what the words of a card and a pack mean; there are no trials."""
    holds = [each.version for each in problem.holds if each.mod == release.mod]
    wants = [each.range for each in problem.wants if each.mod == release.mod]
    release_game = parse_range(release.game or "*")
    return (
        (release.withdrawn != "" and release.version not in holds)
        or problem.games[0] not in release_game
        or (release.editions is not None and problem.edition not in release.editions)
        or not set(release.expansions_needed) <= set(problem.expansions)
        or bool(set(release.expansions_forbidden) & set(problem.expansions))
        or any(version != release.version for version in holds)
        or any(release.version not in range_ for range_ in wants)
    )


class LeftOutTest(unittest.TestCase):
    @settings(max_examples=200, deadline=None)
    @given(randoms)
    def test_all_that_does_and_nothing_else(self, source) -> None:
        asked = random_problem(source)
        problem = replace(asked, games=asked.games[:1], trials=())
        for mod in problem.catalog.mods.values():
            left_out = LeftOut(problem, mod.id)
            for each in mod.releases:
                found = left_out.by(each)
                if not each.version.is_prerelease:
                    self.assertEqual(bool(found), is_ruled_out(problem, each), each)
                for cause in found:
                    if isinstance(cause, causes.OfReleases):
                        self.assertIn(each, cause.releases)

    @settings(max_examples=100, deadline=None)
    @given(randoms)
    def test_a_search_says_so_too(self, source) -> None:
        """With nothing else asked: what is told does not rest on another mod."""
        asked = random_problem(source)
        problem = replace(asked, games=asked.games[:1])
        for mod in problem.catalog.mods.values():
            own = tuple(each for each in problem.wants if each.mod == mod.id)
            holds = tuple(each for each in problem.holds if each.mod == mod.id)
            alone = replace(problem, wants=own or (wanting(mod.id, "*"),), holds=holds)
            searcher = Searcher(alone)
            variable = searcher.rules.mods[mod.id]
            for each in mod.releases:
                if LeftOut(problem, mod.id).by(each):
                    mask = variable.mask_of([each])
                    taken = Supposition(variable.number, mask, causes.Supposed(each))
                    self.assertIsInstance(searcher.search(alone, [taken]), NotFound)


if __name__ == "__main__":
    unittest.main()
