"""The solver on generated worlds of some hundred mods, as the benchmarks use larger."""

from __future__ import annotations

import unittest
from dataclasses import replace

from benchmarks import catalogs
from benchmarks.lag import as_problem
from rellum.core.solving import causes
from rellum.core.solving.problem import Problem, Want
from rellum.core.solving.refusal import explain
from rellum.core.solving.remedies import find_remedies
from rellum.core.solving.search import Found, NotFound, Searcher
from rellum.core.solving.sentences import tell
from rellum.core.solving.solve import chosen_releases
from rellum.core.versions.ranges import parse_range
from tests.core.solving.worlds import is_line_up


def world(seed: int, **said) -> catalogs.CatalogWorld:
    return catalogs.make_world(
        **{"mods": 150, "releases": 15, "wants": 25, "clashes": 80, **said}, seed=seed
    )


class GeneratedTest(unittest.TestCase):
    def found(self, asked: Problem) -> Found:
        searcher = Searcher(asked)
        found = searcher.search(asked)
        assert isinstance(found, Found)
        chosen = chosen_releases(searcher, found)
        self.assertTrue(is_line_up(chosen, asked, found.game))
        return found

    def test_a_line_up_is_found_where_one_was_planted(self) -> None:
        for seed in range(12):
            self.found(as_problem(world(seed)))

    def test_no_want_could_be_newer_as_long_as_those_before_it_stay(self) -> None:
        """The aims, asked by supposing each newer release of each want in turn."""
        for seed in range(4):
            asked = as_problem(world(seed))
            searcher = Searcher(asked)
            chosen = chosen_releases(searcher, self.found(asked))
            fixed: list[Want] = []
            for want in asked.wants:
                mod = asked.catalog.mods[want.mod]
                release = chosen[want.mod]
                for newer in mod.releases[: mod.releases.index(release)]:
                    only = replace(want, range=parse_range(newer.version.text))
                    others = asked.wants[len(fixed) + 1 :]
                    harder = replace(asked, wants=(*fixed, only, *others))
                    self.assertIsInstance(searcher.search(harder), NotFound)
                fixed.append(replace(want, range=parse_range(release.version.text)))

    def test_a_chain_of_seven_is_told_link_by_link(self) -> None:
        for seed in range(5):
            generated = world(seed, mods=300)
            one, two, chain = catalogs.add_impossible_chain(generated)
            asked = as_problem(generated)
            searcher = Searcher(asked)
            found = searcher.search(asked)
            assert isinstance(found, NotFound)
            refused = explain(searcher, found)
            names = [catalogs.name(mod) for mod in (one, two)]
            self.assertEqual(sorted(want.mod for want in refused.wants), sorted(names))
            speaking = {
                c.variable.mod.id for c in refused.reason.causes if isinstance(c, causes.Needs)
            }
            self.assertEqual(speaking, {*names, *map(catalogs.name, chain[:-1])})
            self.assertEqual(len(tell(refused.reason.causes)), len(chain) + 3)
            for remedy in find_remedies(searcher, asked, refused):
                self.assertEqual(remedy.kind, "drop")

    def test_other_games_are_answered_by_the_same_searcher(self) -> None:
        asked = as_problem(world(3))
        searcher = Searcher(asked)
        for version in searcher.surroundings.games:
            there = replace(asked, games=(version,))
            again, first = searcher.search(there), Searcher(there).search(there)
            self.assertEqual(type(again), type(first))
            if isinstance(again, Found) and isinstance(first, Found):
                self.assertEqual(dict(again.values), dict(first.values))


if __name__ == "__main__":
    unittest.main()
