"""The built program where something broke: what it prints, for people and for programs, and how it ends."""

from __future__ import annotations

import json
import os
import unittest
from typing import Any

from tests.support import VANILLA, WorldTest, write_tree


class GoingBackTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.change_sheet(game='store-files = ["@game/version.txt"]')
        self.world.add_release("tides", "1", {"data/sea.dat": b"tides", "mods/tides/a.dat": b"a"})
        self.make_applied()

    def run_it(self, *words: str, status: int = 0) -> str:
        result = self.world.run(*words)
        self.assertEqual(result.returncode, status, result.stderr + result.stdout)
        self.assertNotIn("Traceback", result.stderr)
        return str(result.stdout + result.stderr)

    def json_of(self, *words: str, status: int = 0) -> Any:
        result = self.world.run(*words, "--json")
        self.assertEqual((result.returncode, result.stderr), (status, ""))
        return json.loads(result.stdout)

    def test_many_findings_are_grouped_and_each_cause_has_its_command(self) -> None:
        many = {f"mods/heap/f{number}.txt": b"x" for number in range(10_000)}
        write_tree(self.world.path("game"), many)
        self.world.write_game("data/sea.dat", b"other")
        os.unlink(self.world.path("game", "data", "cables.dat"))
        text = self.run_it("check", status=1)
        self.assertLess(len(text.splitlines()), 20)
        self.assertRegex(text, r"foreign, may load +mods/heap/ +nobody +10,000")
        self.assertRegex(text, r"mod changed: +rellum restore --damaged")
        self.assertRegex(text, r"vanilla missing: +rellum restore --damaged --from COPY")
        self.assertLessEqual(max(map(len, text.splitlines())), 100)
        self.assertEqual(self.run_it("check", "--full", status=1).count("mods/heap/f"), 10_000)
        document = self.json_of("check", status=1)
        causes = {each["path"]: each["cause"] for each in document["findings"]}
        self.assertEqual(causes["@game/data/sea.dat"], "mod-changed")
        self.assertEqual(causes["@game/mods/heap/f1.txt"], "foreign-shared")

    def test_checkpoints_and_rewinding(self) -> None:
        self.assertIn(
            "Checkpoint 2 'calm', marked good.", self.run_it("checkpoint", "calm", "--good")
        )
        self.run_it("restore", "--all", "--yes")
        listed = self.json_of("checkpoint", "--list")["checkpoints"]
        self.assertEqual([each["name"] for each in listed], ["calm", None])
        self.assertEqual(listed[0]["ended_by"], "restore")
        self.assertIn("needs your answer", self.run_it("rewind", status=2))
        text = self.run_it("rewind", "--good", "--yes")
        self.assertIn("Back to checkpoint 2 'calm'", text)
        self.assertIn("Nothing to do", self.run_it("rewind", "calm", "--yes"))
        self.run_it("check")
        for words, told in (
            (("rewind", "calm", "--good"), "name a checkpoint, or say --good"),
            (("rewind", "clam"), "did you mean 'calm'"),
            (("checkpoint", "12"), "a checkpoint cannot be called '12'"),
            (("checkpoint", "x", "--list"), "--list and --forget each stand alone"),
        ):
            self.assertIn(told, " ".join(self.run_it(*words, status=2).split()))

    def test_sweeping_and_absorbing(self) -> None:
        self.assertIn("Nothing to do", self.run_it("sweep", "--yes"))
        write_tree(self.world.path("game"), {"mods/x.txt": b"x", "y.txt": b"y"})
        self.assertIn("Moved out of the game: 1 file", self.run_it("sweep", "y.txt", "--yes"))
        [swept] = self.json_of("sweep", "--list")["sweeps"]
        self.assertEqual(swept["files"], ["@game/y.txt"])
        self.assertIn("Back in the game: 1 file", self.run_it("sweep", "--back", "last"))
        self.assertIn("there is no sweep", self.run_it("sweep", "--back", "last", status=2))
        self.assertIn(
            "Absorbed: 2 files, as mine 1.", self.run_it("absorb", "--as", "mine", "--yes")
        )
        self.run_it("check")
        self.assertIn("nothing to absorb", self.run_it("absorb", "--as", "mine", "--yes", status=2))
        for words, told in (
            (("absorb",), "name the new mod"),
            (("absorb", "--begin", "--end"), "--begin and --stop stand alone"),
            (("absorb", "--as", "Not an id"), "is not a valid id"),
            (("sweep", "x", "--list"), "name paths, or --back, or --list"),
            (("guard", "maybe"), "say 'on' or 'off'"),
            (("restore", "--damaged", "--all"), "name either files, or --mod ID"),
        ):
            self.assertIn(told, " ".join(self.run_it(*words, status=2).split()))

    def test_the_guard_is_shown_by_check(self) -> None:
        self.assertIn("1 file read-only now", self.run_it("guard", "on"))
        self.assertIn("The guard holds", self.run_it("check"))
        os.chmod(self.world.path("game", "version.txt"), 0o644)
        self.assertIn("the guard does not hold: version.txt", self.run_it("check", status=1))
        self.assertEqual(self.json_of("check", status=1)["guard"]["broken"], ["@game/version.txt"])
        self.run_it("guard", "off")
        self.assertIn("nothing was guarded", self.run_it("guard", "off"))

    def test_identify_assemble_and_rebuild(self) -> None:
        write_tree(self.world.path("clean"), VANILLA)
        self.assertIn("There is no known baseline", self.run_it("identify", "../clean"))
        self.assertIn("The game sheet names it", self.run_it("identify", "../clean", "--write"))
        self.assertIn("whole.", self.run_it("identify", "../clean"))
        self.assertEqual(
            self.json_of("identify", "../game", status=1)["nearest"]["differing"],
            ["@game/data/sea.dat"],
        )
        os.rename(self.world.path("clean", "data"), self.world.path("data-part"))
        os.makedirs(self.world.path("second"))
        os.rename(self.world.path("data-part"), self.world.path("second", "data"))
        told = self.run_it("assemble", "../whole", "../clean", status=1)
        self.assertIn("data/sea.dat is missing", told)
        made = self.json_of("assemble", "../whole", "../clean", "../second")
        self.assertEqual((made["version"], made["file_count"]), ("1.6.0", len(VANILLA)))
        self.assertIn("is not empty", self.run_it("assemble", "../whole", "../clean", status=2))
        with open(self.world.path("pack", ".rellum", "state.db"), "wb") as file:
            file.write(b"rubbish" * 999)
        self.assertRegex(self.run_it("check", status=2), r"rellum adopt \S+ --rebuild")
        self.assertIn("2 files of the line-up", self.run_it("adopt", "../game", "--rebuild"))
        self.run_it("check", "--deep")


if __name__ == "__main__":
    unittest.main()
