"""Id and version guessed from names of archives, measured on names that people might give them."""

from __future__ import annotations

import os
import unittest
from typing import NamedTuple

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.describing.builds import BuildSigns
from rellum.core.describing.naming import Naming, guess_naming

NAMES = os.path.join(os.path.dirname(__file__), "archive_names.txt")
SIGNS = BuildSigns(game_versions={"2.4.1", "2.4.0"})


class Row(NamedTuple):
    name: str
    version: str
    id: str

    @property
    def guess(self) -> Naming:
        return guess_naming(self.name, "", {}, None, SIGNS)

    @property
    def is_right(self) -> bool:
        return (self.guess.version.value or "-").lower() == self.version.lower()


def rows() -> list[Row]:
    with open(NAMES, encoding="utf-8") as file:
        lines = [line.strip() for line in file if line.strip() and not line.startswith("#")]
    return [Row(*(part.strip() for part in line.split(" | "))) for line in lines]


class NamesTest(unittest.TestCase):
    def setUp(self) -> None:
        self.rows = rows()

    def share(self, wrong: list[str]) -> float:
        return len(wrong) / len(self.rows)

    def test_versions(self) -> None:
        wrong = [each.name for each in self.rows if not each.is_right]
        self.assertLessEqual(self.share(wrong), 0.12, wrong)

    def test_ids(self) -> None:
        wrong = [each.name for each in self.rows if each.guess.id.value != each.id]
        self.assertLessEqual(self.share(wrong), 0.12, wrong)

    def test_a_wrong_version_is_marked(self) -> None:
        sure = [each for each in self.rows if each.guess.version.value and not each.is_right]
        wrong = [each.name for each in sure if each.guess.version.is_sure]
        self.assertLessEqual(self.share(wrong), 0.03, wrong)

    def test_a_few_capitals_stay(self) -> None:
        for archive, name in (
            ("HD Terrain (4x).zip", "HD Terrain"),
            ("better_UI-v1.2.zip", "Better UI"),
            ("FEN LIGHTS.zip", "Fen Lights"),
            ("fen-lights.zip", "Fen Lights"),
        ):
            self.assertEqual(guess_naming(archive, "", {}, None, SIGNS).name.value, name)

    @given(st.text(max_size=60), st.text(max_size=20))
    def test_any_name_gives_an_id_that_cards_accept(self, name: str, wrapper: str) -> None:
        guess = guess_naming(f"{name}.zip", wrapper, {}, None, SIGNS)
        self.assertRegex(guess.id.value, r"^([a-z0-9]+(-[a-z0-9]+)*)?$")


if __name__ == "__main__":
    unittest.main()
