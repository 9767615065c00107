"""Every way back leads back, and what is said of it is so: driven through the built program."""

from __future__ import annotations

import json
import os
import shutil
import unittest

from tests.support import VANILLA, WorldTest, snapshot, write_tree

EDIT = '[[release.edit]]\nfile = "@data/cables.dat"\nby = "diff"\nwith = "p/c.diff"'
DIFF = b"--- a\n+++ b\n@@ -1,3 +1,3 @@\n vanilla cables\n-vanilla cables\n+new cables\n vanilla cables\n"
EDITED = VANILLA["data/cables.dat"].replace(b"vanilla cables\n", b"new cables\n", 2).replace(
    b"new cables\n", b"vanilla cables\n", 1
)  # fmt: skip


class WayBackTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.change_sheet(places='settings = "{documents}/F"\nsaves = "{documents}/F/saves"')
        shutil.copytree(self.world.path("game"), self.world.path("copy"))

    def run_it(self, *words: str, status: int = 0) -> str:
        result = self.world.run(*words)
        self.assertEqual(result.returncode, status, result.stdout + result.stderr)
        self.assertNotIn("Traceback", result.stderr)
        return " ".join((result.stdout + result.stderr).split())

    def begin(self) -> None:
        self.world.adopt()
        self.world.change_pack('[game.places]\nsettings = "../player"\nsaves = "../player/saves"\n')
        if os.listdir(self.world.path("downloads")):
            self.world.take_all()
        for mod in self.world.cards:
            self.world.want(mod)
        if self.world.cards:
            self.world.resolve()
            self.world.apply()

    def player(self) -> dict[str, bytes | None]:
        found = snapshot(self.world.path("player")).items()
        return {path: each.content for path, each in found if not path.endswith("/")}

    def file(self, name: str) -> bytes | None:
        entry = self.world.game().get(name)
        return entry.content if entry else None

    def test_settings_are_what_the_place_holds(self) -> None:
        write_tree(self.world.path("player"), {"view.ini": b"fog = on\n", "keys.ini": b"a = 1\n"})
        self.world.add_release("tides", "1.0", {"m/a.dat": b"a"}, place='to = "@mods/"')
        self.begin()
        self.run_it("checkpoint", "calm")
        before = self.player()
        write_tree(self.world.path("player"), {"view.ini": b"fog = off\n"})
        os.unlink(self.world.path("player", "keys.ini"))
        self.run_it("rewind", "calm", "--yes")
        self.assertEqual(self.player(), before)
        self.assertIn("as it was", self.run_it("rewind", "calm", "--yes"))

    def test_saves_stay_unless_they_are_asked_for(self) -> None:
        write_tree(self.world.path("player"), {"saves/one.sav": b"spring", "view.ini": b"1"})
        self.world.add_release("tides", "1.0", {"a.dat": b"a"}, place='to = "@mods/"')
        self.begin()
        self.run_it("checkpoint", "spring")
        write_tree(self.world.path("player"), {"saves/one.sav": b"autumn", "view.ini": b"2"})
        said = self.run_it("rewind", "spring", "--yes")
        self.assertEqual(self.player(), {"saves/one.sav": b"autumn", "view.ini": b"1"})
        self.assertIn("@saves/one.sav", said)
        self.assertIn("--with-carried", said)
        self.run_it("rewind", "spring", "--with-carried", "--yes")
        self.assertEqual(self.player()["saves/one.sav"], b"spring")
        self.run_it("rewind", "--with-carried", "--yes")
        self.assertEqual(self.player()["saves/one.sav"], b"autumn")

    def test_what_cannot_be_made_again_is_refused_before_anything_begins(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"p/c.diff": DIFF}, place=f'folder = true\nto = "@mods/t"\n{EDIT}'
        )
        self.begin()
        self.run_it("restore", "--all", "--yes")
        self.world.write_game("data/cables.dat", b"by hand\n")
        before = self.world.game()
        for words in (("preview",), ("apply", "--yes")):
            said = self.run_it(*words, status=2)
            self.assertIn("data/cables.dat is not as it was adopted", said)
            self.assertEqual(self.world.game(), before)
        self.run_it("restore", "data/cables.dat", "--from", self.world.path("copy"), "--yes")
        self.run_it("apply", "--yes")
        self.assertEqual(self.file("data/cables.dat"), EDITED)

    def test_as_it_was_is_looked_at(self) -> None:
        self.world.add_release("tides", "1.0", {"a.dat": b"a" * 99}, place='to = "@mods/"')
        self.begin()
        self.run_it("checkpoint", "calm")
        self.world.write_game("mods/a.dat", b"broken")
        os.unlink(self.world.path("game", "data", "sea.dat"))
        said = self.run_it("rewind", "calm", "--yes", status=1)
        self.assertEqual(self.file("mods/a.dat"), b"a" * 99)  # out of the archive on the shelf
        self.assertIn("data/sea.dat", said)
        self.assertIn("--from", said)
        self.run_it("rewind", "calm", "--from", self.world.path("copy"), "--yes")
        self.assertEqual(self.file("data/sea.dat"), VANILLA["data/sea.dat"])
        self.assertEqual(self.world.check(deep=True).findings, ())

    def test_what_was_edited_is_made_again(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"p/c.diff": DIFF}, place=f'folder = true\nto = "@mods/t"\n{EDIT}'
        )
        self.begin()
        self.assertEqual(self.file("data/cables.dat"), EDITED)
        self.run_it("checkpoint", "fine", "--good")
        self.world.write_game("data/cables.dat", b"by hand\n" * 9)
        self.run_it("restore", "--all", "--yes")
        self.assertEqual(self.file("data/cables.dat"), VANILLA["data/cables.dat"])
        self.run_it("rewind", "--good", "--yes")
        self.assertEqual(self.file("data/cables.dat"), EDITED)
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.assertIn("data/cables.dat", self.run_it("kept"))  # the hand's change is not lost

    def test_names_and_marks_of_checkpoints_stay(self) -> None:
        self.begin()
        self.run_it("checkpoint", "one", "--good")
        self.run_it("checkpoint", "two")
        listed = self.run_it("checkpoint", "--list")
        self.assertIn("one", listed)
        self.assertIn("two", listed)
        self.assertEqual(listed.count("good"), 1)
        self.assertIn("one", self.run_it("checkpoint", "one", status=2))
        self.run_it("checkpoint", "--forget", "one")
        self.assertNotIn("one", self.run_it("checkpoint", "--list").split())

    def test_absorbed_changes_go_back(self) -> None:
        self.begin()
        self.run_it("absorb", "--begin")
        before = self.world.game()
        self.world.write_game("data/sea.dat", b"tuned")
        self.world.write_game("data/new.dat", b"new")
        self.run_it("absorb", "--end", "--as", "tuner", "--yes")
        self.assertEqual(self.file("data/sea.dat"), b"tuned")
        self.run_it("rewind", "--yes")
        self.assertEqual(self.world.game(), before)
        self.run_it("absorb", "--end", "--as", "tuner", "--yes", status=2)

    def test_what_absorb_cannot_undo_is_said_before(self) -> None:
        self.begin()
        self.world.write_game("data/sea.dat", b"tuned")
        said = self.run_it("absorb", "data/sea.dat", "--as", "tuner", status=2)
        self.assertIn("data/sea.dat", said)
        self.assertIn("--from", said)
        copy = self.world.path("copy")
        self.run_it("absorb", "data/sea.dat", "--as", "tuner", "--from", copy, "--yes")
        self.run_it("drop", "tuner")
        self.run_it("apply", "--yes")
        self.assertEqual(self.file("data/sea.dat"), VANILLA["data/sea.dat"])

    def test_merged_settings_outlive_vanilla_and_back(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"t.ini": b"[a]\nx = 1\ny = 2\n"}, place='to = "@mods/"',
            says='[release.settings]\n"@mods/*.ini" = "merge"',
        )  # fmt: skip
        self.begin()
        self.world.write_game("mods/t.ini", b"[a]\nx = 9\ny = 2\n")
        for words in (("restore", "--all"), ("restore", "--mod", "tides")):
            said = self.run_it(*words, "--yes")
            self.assertIn("mods/t.ini", said)
            self.assertIsNone(self.file("mods/t.ini"))
            self.run_it("apply", "--yes")
            self.assertEqual(self.file("mods/t.ini"), b"[a]\nx = 9\ny = 2\n")

    def test_an_edit_is_taken_out_by_key(self) -> None:
        profile = {"name": "me", "deep": {"fog": 1}}
        write_tree(self.world.path("player"), {"me.json": json.dumps(profile, indent=1).encode()})
        self.world.add_release(
            "tides", "1.0", {"a": b"a"},
            place='to = "@mods/"\n[[release.edit]]\nfile = "@settings/me.json"\nby = "keys"\n'
            "set = { tides = true, deep = { fog = 5 } }",
        )  # fmt: skip
        self.begin()
        now = json.loads(self.player()["me.json"] or b"")
        self.assertEqual(now, {"name": "me", "deep": {"fog": 5}, "tides": True})
        now |= {"played": 44}  # the game goes on writing its file
        write_tree(self.world.path("player"), {"me.json": json.dumps(now, indent=1).encode()})
        self.run_it("drop", "tides")
        self.run_it("apply", "--yes")
        self.assertEqual(json.loads(self.player()["me.json"] or b""), {**profile, "played": 44})

    def test_kept_copies_are_found_and_brought_back(self) -> None:
        self.world.add_release("tides", "1.0", {"a.dat": b"a"}, place='to = "@mods/"')
        self.begin()
        self.world.write_game("mods/a.dat", b"my own version")
        self.run_it("restore", "--damaged", "--yes")
        self.assertEqual(self.file("mods/a.dat"), b"a")
        (row,) = json.loads(self.world.run("kept", "--json").stdout)["kept"]
        self.assertEqual((row["path"], row["bytes"]), ("@game/mods/a.dat", 14))
        self.assertEqual(row["owner"]["release"]["mod"], "tides")
        number = str(row["number"])
        self.run_it("kept", "out", number, "--to", "../out")
        with open(self.world.path("out", "game", "mods", "a.dat"), "rb") as file:
            self.assertEqual(file.read(), b"my own version")
        self.assertIn("a file of tides 1.0", self.run_it("kept", "back", number, status=2))
        self.world.write_game("mods/a.dat", b"a second one")
        self.run_it("restore", "--damaged", "--yes")
        second = json.loads(self.world.run("kept", "--json").stdout)["kept"][0]["number"]
        self.run_it("kept", "drop", f"{second}-{second}", "--yes")
        self.run_it("drop", "tides")
        self.run_it("apply", "--yes")
        self.run_it("kept", "back", number)
        self.assertEqual(self.file("mods/a.dat"), b"my own version")
        self.run_it("checkpoint", "mine")
        self.assertIn("No copies are kept", self.run_it("kept"))
        self.assertEqual(self.file("mods/a.dat"), b"my own version")
        self.assertIn("number", self.run_it("kept", "drop", "x", "--yes", status=2))

    def test_a_sweep_brings_its_empty_folders_back(self) -> None:
        self.world.add_release(
            "tides",
            "1.0",
            {"a.dat": b"a"},
            place='to = "@mods/t/"',
            says='obsolete = ["@mods/old/**"]',
        )
        write_tree(self.world.path("game"), {"mods/old/x.dat": b"old"})
        self.begin()
        os.makedirs(self.world.path("game", "mods", "mine", "empty"))
        write_tree(self.world.path("game"), {"mods/mine/deep/y.dat": b"y"})
        before = self.world.game()
        self.run_it("sweep", "mods/mine", "--yes")
        self.assertFalse(os.path.exists(self.world.path("game", "mods", "mine")))
        self.run_it("sweep", "--back", "last", "--yes")
        self.assertEqual(self.world.game(), before)

    def test_left_overs_go_where_sweeps_go(self) -> None:
        self.world.add_release(
            "tides",
            "1.0",
            {"a.dat": b"a"},
            place='to = "@mods/t/"',
            says='obsolete = ["@mods/old/**"]',
        )
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides")
        self.world.resolve()
        write_tree(self.world.path("game"), {"mods/old/x.dat": b"old"})
        self.run_it("apply", "--sweep", "--yes")
        self.assertIsNone(self.file("mods/old/x.dat"))
        self.assertIn("1 file", self.run_it("sweep", "--list"))
        self.run_it("sweep", "--back", "last", "--yes")
        self.assertEqual(self.file("mods/old/x.dat"), b"old")

    def test_what_a_deep_check_finds_is_mended(self) -> None:
        self.world.add_release("tides", "1.0", {"a.dat": b"a" * 50}, place='to = "@mods/"')
        self.begin()
        for name in ("mods/a.dat", "data/sea.dat"):
            path = self.world.path("game", *name.split("/"))
            status = os.stat(path)
            with open(path, "r+b") as file:
                file.write(b"?")
            os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
        self.assertIn("No drift", self.run_it("check"))
        self.run_it("check", "--deep", status=1)
        said = self.run_it("restore", "data/sea.dat", "--yes", status=2)
        self.assertIn("--from", said)
        self.run_it("restore", "--damaged", "--from", self.world.path("copy"), "--yes")
        self.assertIn("No drift", self.run_it("check", "--deep"))

    def test_the_shelf_keeps_what_checkpoints_need(self) -> None:
        self.world.add_release("tides", "1.0", {"a.dat": b"a"}, place='to = "@mods/"')
        self.world.add_release("swell", "1.0", {"b.dat": b"b"}, place='to = "@mods/"')
        self.begin()
        self.run_it("checkpoint", "both")
        self.run_it("drop", "swell")
        self.run_it("resolve")
        self.run_it("apply", "--yes")
        self.run_it("shelf", "trim", "--yes")
        self.assertIn("swell-1.0.zip", self.run_it("shelf"))
        self.run_it("checkpoint", "--forget", "both")
        with open(self.world.path("pack", "rellum.toml"), encoding="utf-8") as file:
            self.assertNotIn("swell", file.read())


if __name__ == "__main__":
    unittest.main()
