"""How a game's mods describe themselves, guessed from samples, then read by the sheet that comes of it."""

from __future__ import annotations

import json
import tomllib
import unittest

from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.self_descriptions import read_self_descriptions
from rellum.core.catalog.tables import Fault, TableReader
from rellum.core.describing.own_form import IN_GAME, OwnForm, Sample, guess_own_forms
from rellum.core.describing.own_words import OwnWords, own_words_in

NEEDS: dict[str, list[object]] = {
    "tables": [
        [{"id": "moss", "min": "1.2"}],
        [{"id": "reed", "min": "2"}, {"id": "fen", "min": "1"}],
    ],
    "ids are keys": [{"moss": ">=1.2"}, {"reed": ">=2 <3", "fen": "*"}],
    "colons": ["moss:1.2", "reed:2, fen:1"],
    "comparisons": ["moss >=1.2", "reed >=2; fen"],
    "blanks": ["moss", "reed fen"],
    "lists": [["moss"], ["reed", "fen"]],
}


def samples(values: list[object], key: str = "depends") -> list[Sample]:
    said = [{"id": f"m{n}", "version": f"1.{n}", key: value} for n, value in enumerate(values)]
    return [
        (f"{n}.zip", f"m{n}/about.json", json.dumps(each).encode()) for n, each in enumerate(said)
    ]


class OwnFormTest(unittest.TestCase):
    def read(self, form: OwnForm, sample: Sample) -> OwnWords:
        faults: list[Fault] = []
        table = tomllib.loads("\n".join(form.lines))
        descriptions = read_self_descriptions(TableReader(table, Source(file="s"), faults))
        self.assertEqual(faults, [])
        [words] = own_words_in(descriptions, [sample[1]], lambda _: sample[2])
        return words

    def test_every_way_to_write_needs(self) -> None:
        for name, values in NEEDS.items():
            with self.subTest(name):
                found = samples(values)
                [form] = guess_own_forms(found)
                words = [self.read(form, each) for each in found]
                self.assertEqual([each.id for each in words], ["m0", "m1"])
                self.assertEqual([each.version for each in words], ["1.0", "1.1"])
                ids = [[need.id for need in each.needs] for each in words]
                self.assertEqual(ids, [["moss"], ["reed", "fen"]])
                self.assertEqual([each.unread for each in words], [(), ()])

    def test_game_ranges_in_every_notation(self) -> None:
        for text, expected in (("2.4", ">=2.4"), (">=2.4 <3", ">=2.4, <3"), ("^2.4", ">=2.4, <3"),
                               ("[2.4,3)", ">=2.4, <3")):  # fmt: skip
            with self.subTest(text):
                found = samples([text, text], "game")
                [form] = guess_own_forms(found)
                self.assertEqual(self.read(form, found[0]).game, expected)

    def test_a_range_that_no_notation_reads_is_asked_once(self) -> None:
        found = samples(["1.4 1.6", "1.5 1.7"], "game")
        [form] = guess_own_forms(found)
        self.assertIn("FILL IN: game says e.g. '1.4 1.6', in no notation", "\n".join(form.lines))
        words = self.read(form, found[0])
        self.assertEqual((words.game, words.unread), ("", ()))

    def test_what_is_no_form(self) -> None:
        one = samples(["moss"])
        self.assertEqual(guess_own_forms(one), ())  # one mod's file says little
        self.assertEqual(len(guess_own_forms([(f"{IN_GAME}base", *one[0][1:])])), 1)
        others = [(f"{n}.zip", "m/data.json", b'{"width": 3}') for n in range(5)]
        self.assertEqual(
            guess_own_forms([*others, ("x", "y.json", b"[" * 9_000), ("z", "z.txt", b"")]), ()
        )


if __name__ == "__main__":
    unittest.main()
