"""What the commands of Match print: for people at a hundred columns, for programs with stable keys."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
import unittest

from rellum.demo.world import DemoPlaces, make
from tests.support import memory_folder, run_rellum


class MatchOutputTest(unittest.TestCase):
    places: DemoPlaces

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.mkdtemp(prefix="rellum-test-", dir=memory_folder())
        cls.addClassCleanup(shutil.rmtree, folder)
        cls.places = make(os.path.join(folder, "demo"))
        os.environ["RELLUM_CACHE"] = os.path.join(folder, "cache")
        cls.addClassCleanup(os.environ.pop, "RELLUM_CACHE")
        for words in (
            ("adopt", "../game"), ("want", "tidal-currents"), ("want", "clear-water"),
            ("want", "brasswork"), ("want", "deep-lamps", "--optional"),
            ("hold", "clear-water", "2.0", "--reason", "nicer"), ("resolve",),
            ("hold", "clear-water", "--off"),
        ):  # fmt: skip
            result = cls.run_in_pack(*words)
            assert result.returncode == 0, result.stderr

    @classmethod
    def run_in_pack(cls, *words: str):
        return run_rellum(*words, cwd=cls.places.folder("pack"), shelf=cls.places.folder("shelf"))

    def test_everything_fits_a_hundred_columns(self) -> None:
        for words in (
            ("resolve",), ("why", "keelson"), ("why", "deep-lamps"), ("why", "clear-water", "2.2"),
            ("why", "harbour-bells"), ("news",), ("outlook",), ("vet",), ("trial", "works"),
        ):  # fmt: skip
            result = self.run_in_pack(*words)
            self.assertEqual(result.returncode, 0, result.stderr)
            long = [line for line in result.stdout.splitlines() if len(line) > 100]
            self.assertEqual(long, [])
        os.unlink(os.path.join(self.places.folder("pack"), "trials.toml"))

    def test_of_an_empty_line_up_nothing_is_called_the_newest(self) -> None:
        folder = tempfile.mkdtemp(prefix="rellum-test-", dir=memory_folder())
        self.addCleanup(shutil.rmtree, folder)
        world = make(os.path.join(folder, "demo"))
        for words in (("adopt", "../game"), ("resolve",), ("news",)):
            result = run_rellum(*words, cwd=world.folder("pack"), shelf=world.folder("shelf"))
            self.assertEqual(result.returncode, 0, result.stderr)
        self.assertEqual(
            result.stdout, "The line-up has no mods, so there is nothing to look for.\n"
        )

    def test_what_people_read(self) -> None:
        expected = {
            ("resolve",): "deep-lamps is optional and was left out: see 'rellum why deep-lamps'.",
            ("why", "deep-lamps"): "the game does not have the expansion deep-trench",
            ("why", "clear-water", "2.1"): "can be taken, and nothing else would change",
            ("why", "harbour-bells"): "no chosen release needs it",
            ("why", "harbour-bells", "2.0"): "cannot be taken: is for game >=1.7",
            ("news",): "blocked  clear-water     2.0    2.2",
            ("outlook",): "game 1.7.0: give up brasswork",
            ("vet",): "No mistakes: 17 cards",
        }
        for words, told in expected.items():
            with self.subTest(words):
                self.assertIn(told, self.run_in_pack(*words).stdout)

    def test_a_figure_is_drawn_the_same_each_time(self) -> None:
        contents = []
        for name in ("one.svg", "two.svg"):
            self.run_in_pack("outlook", "--figure", name)
            with open(os.path.join(self.places.folder("pack"), name), "rb") as file:
                contents.append(file.read())
        self.assertEqual(*contents)
        self.assertNotIn(b"<dc:date>", contents[0])

    def test_a_line_up_that_rests_on_a_trial_says_so(self) -> None:
        pack_file = os.path.join(self.places.folder("pack"), "rellum.toml")
        with open(pack_file, encoding="utf-8") as file:
            before = file.read()
        self.addCleanup(self.write, pack_file, before)
        self.run_in_pack("want", "old-lights")
        refused = self.run_in_pack("resolve")
        self.assertEqual(refused.returncode, 1)
        self.assertIn("trust what was tried, too", refused.stderr)
        self.assertIn("rellum decide trust tried", refused.stderr)
        self.run_in_pack("decide", "trust", "tried")
        told = self.run_in_pack("resolve").stdout
        self.assertIn(
            "old-lights 1.4 rests on a trial: works on game 1.6.0, tried 2026-03-14", told
        )
        cells = json.loads(self.run_in_pack("outlook", "--json").stdout)["cells"]
        tried = {each["game_version"] for each in cells if each["status"] == "tried"}
        self.assertEqual(tried, {"1.6.0", "1.7.0"})

    def write(self, path: str, text: str) -> None:
        with open(path, "w", encoding="utf-8") as file:
            file.write(text)


if __name__ == "__main__":
    unittest.main()
