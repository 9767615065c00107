"""The outlook over the versions of the game: what a whole search says of each, whoever looks."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from dataclasses import replace
from random import Random
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.solving import game_versions
from rellum.core.solving.game_versions import look_out
from rellum.core.solving.problem import LineUp
from rellum.core.solving.search import Searcher
from rellum.core.solving.solve import find_line_up
from tests.core.solving.worlds import random_problem


def one_after_another(
    first: Callable[[], object], second: Callable[[], object]
) -> tuple[object, object]:
    return first(), second()


class GameVersionsTest(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 2**32).map(Random))
    def test_each_version_is_as_a_search_says(self, source) -> None:
        problem = replace(random_problem(source), locked={})
        found = look_out(problem, {})
        with mock.patch.object(game_versions, "run_both", one_after_another):
            self.assertEqual(look_out(problem, {}), found)
        for version in found.versions:
            there = replace(problem, games=(version.game,))
            line_up = find_line_up(Searcher(there), there)
            self.assertEqual(isinstance(line_up, LineUp), version.give_up == ())
            if isinstance(line_up, LineUp):
                chosen = {each.release.mod: each.release for each in line_up.chosen}
                for cell in version.cells:
                    release = chosen.get(cell.mod)
                    said = (cell.release.version, cell.release.build) if cell.release else None
                    self.assertEqual(said, release and (release.version.text, release.build))


if __name__ == "__main__":
    unittest.main()
