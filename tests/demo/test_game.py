"""The stand-in game starts, and fails, as a real one would."""

from __future__ import annotations

import itertools
import os
import subprocess
import sys
import tempfile
import unittest

from rellum.demo.game import EDITIONS, EXPANSIONS, VERSIONS, game_files
from rellum.demo.world import write_files


class GameTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.game = folder.name

    def start(self) -> tuple[int, str]:
        program = os.path.join(self.game, "fathomline.py")
        result = subprocess.run(
            [sys.executable, program], capture_output=True, text=True, check=False
        )
        return result.returncode, result.stdout

    def add_mod(
        self, mod: str, *, game: str = "1.4 1.8", needs: str = "", clashes: str = ""
    ) -> None:
        about = (
            f"[mod]\nid = {mod}\nversion = 1\ngame = {game}\nneeds = {needs}\nclashes = {clashes}\n"
        )
        write_files(self.game, {f"mods/{mod}/about.ini": about.encode()})

    def test_every_version_edition_and_expansion_starts(self) -> None:
        for version in VERSIONS:
            for edition in EDITIONS:
                write_files(self.game, game_files(version, edition, EXPANSIONS))
                status, log = self.start()
                self.assertEqual(status, 0, log)
                self.assertIn(f"Fathomline {version}, {edition} edition", log)
                self.assertIn("expansion  deep-trench", log)

    def test_versions_differ_in_some_files(self) -> None:
        for old, new in itertools.pairwise(VERSIONS):
            one, two = game_files(old), game_files(new)
            changed = [name for name in one if one[name] != two.get(name)]
            self.assertTrue(1 < len(changed) < len(one) / 2, changed)

    def test_fails_as_a_game_would(self) -> None:
        write_files(self.game, game_files("1.6.0"))
        self.add_mod("late", game="1.7 1.8")
        self.assertIn("FAILED     late 1 is for game 1.7 to 1.8", self.start()[1])
        self.add_mod("late", needs="keel")
        self.assertIn("FAILED     late needs keel, which is not there", self.start()[1])
        self.add_mod("keel", clashes="late")
        self.assertIn("FAILED     keel and late cannot sail together", self.start()[1])
        self.add_mod("keel")
        status, log = self.start()
        self.assertEqual(status, 0)
        self.assertLess(log.index("keel 1"), log.index("late 1"))
        os.unlink(os.path.join(self.game, "data", "sea.dat"))
        self.assertEqual(self.start(), (1, self.start()[1]))
        self.assertIn("data/sea.dat is missing", self.start()[1])


if __name__ == "__main__":
    unittest.main()
