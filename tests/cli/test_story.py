"""The demo's story, told by the built program; and a new user's first steps."""

from __future__ import annotations

import json
import os
import re
import tempfile
import unittest

from rellum.cli.app import GROUPS
from tests.support import memory_folder, run_rellum, snapshot


class StoryTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(dir=memory_folder())
        self.addCleanup(folder.cleanup)
        self.root = os.path.join(os.path.realpath(folder.name), "demo")

    def rellum(self, *arguments: str):
        pack, shelf = os.path.join(self.root, "pack"), os.path.join(self.root, "shelf")
        return run_rellum(*arguments, cwd=pack, shelf=shelf)

    def demo(self, *options: str):
        return run_rellum("demo", self.root, *options, cwd="/", shelf=self.root)

    def test_the_story_is_told_to_its_end(self) -> None:
        result = self.demo()
        self.assertEqual((result.returncode, result.stderr), (0, ""))
        for words in (
            "$ rellum adopt ../game\nFathomline 1.6.0, boxed edition, with ice-charts",
            "part     clear-water 2.1        260.1 kB  ../downloads/clear-water-2.1.zip.001",
            "fetched  tidal-currents 3.2.5",
            "1 file to download by hand",
            "The shelf has everything that the line-up needs.",
            "Line-up for fathomline 1.6.0: 9 releases",
            "ready, 9 mods, the sea is calm",
            "FAILED     data/sea.dat is damaged",
            "mod missing        mods/tidal-currents/tides.dat  tidal-currents 3.2.5",
            "The game was updated: it is 1.7.0 now, 4 files as known of that version.",
            "The pack is on game 1.7.0 now.",
            "rests on a trial: works on game 1.6.0",
            "All 33 vanilla files compared, byte for byte",
        ):
            self.assertIn(words, result.stdout)
        long = [line for line in result.stdout.splitlines() if len(line) > 100]
        known = [line for line in long if "../catalog" in line or self.root in line]
        self.assertEqual(long, known, "output fits a hundred columns")

    def test_the_files_are_the_same_every_time(self) -> None:
        self.assertEqual(self.demo("--files-only").returncode, 0)
        first = snapshot(self.root, times=True)
        self.root += "-again"
        self.demo("--files-only")
        self.assertEqual(snapshot(self.root, times=True), first)
        self.assertLess(sum(len(e.content or b"") for e in first.values()), 10_000_000)

    def test_a_folder_that_is_not_empty_is_refused(self) -> None:
        os.makedirs(os.path.join(self.root, "mine"))
        result = self.demo()
        self.assertEqual(result.returncode, 2)
        self.assertIn("is not empty", result.stderr)
        self.assertEqual(os.listdir(self.root), ["mine"])

    def test_json_of_every_reading_command(self) -> None:
        self.demo("--files-only")
        adopted = json.loads(self.rellum("adopt", "../game", "--json").stdout)
        self.assertEqual((adopted["game"]["version"], adopted["file_count"]), ("1.6.0", 33))
        taken = json.loads(self.rellum("take", "--json", "--each", "../site").stdout)["archives"]
        self.assertEqual({each["outcome"] for each in taken}, {"taken"})
        self.rellum("want", "tidal-currents", ">=3")
        resolved = json.loads(self.rellum("resolve", "--json").stdout)
        self.assertEqual(
            [
                (r["release"]["mod"], r["release"]["version"], r["needed_by"])
                for r in resolved["releases"]
            ],
            [("keelson", "2.4.0", ["tidal-currents"]), ("tidal-currents", "3.2.5", [])],
        )
        planned = json.loads(self.rellum("preview", "--json").stdout)
        self.assertIn(
            ("@game/data/sea.dat", "replaces vanilla"),
            [(each["path"], each["effect"]) for each in planned["operations"]],
        )
        self.assertEqual(self.rellum("apply", "--yes").returncode, 0)
        self.assertEqual(json.loads(self.rellum("check", "--json").stdout)["findings"], [])
        os.unlink(os.path.join(self.root, "game", "data", "sea.dat"))
        broken = self.rellum("check", "--json")
        self.assertEqual(broken.returncode, 1)
        [finding] = json.loads(broken.stdout)["findings"]
        self.assertEqual(
            (finding["path"], finding["finding"], finding["has_original"]),
            ("@game/data/sea.dat", "missing", True),
        )
        refused = self.rellum("restore", "nothing", "--json")
        self.assertEqual(refused.returncode, 2)

    def test_help_groups_the_commands(self) -> None:
        text = run_rellum("--help", cwd="/", shelf=self.root).stdout
        headings = re.findall(r"^(\w[\w ]*):$", text, re.MULTILINE)
        self.assertEqual(
            headings[1:],
            [
                "Set up",
                "Gather",
                "Match",
                "Change the game",
                "When something breaks",
                "Live with it",
                "Share",
                *(["Exit status"] if "Exit status" in headings else []),
            ],
        )
        for command in re.findall(r"^  ([a-z]+)  ", text, re.MULTILINE):
            result = run_rellum(command, "--help", cwd="/", shelf=self.root)
            self.assertEqual(result.returncode, 0)
            [line] = [line for rows in GROUPS.values() for name, _, line in rows if name == command]
            self.assertEqual(result.stdout.split("\n\n")[1].strip(), line)
            self.assertLessEqual(max(map(len, result.stdout.splitlines())), 100, command)


if __name__ == "__main__":
    unittest.main()
