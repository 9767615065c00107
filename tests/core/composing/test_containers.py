"""Containers: members added, replaced, edited and removed by several mods, and back again."""

from __future__ import annotations

import io
import os
import unittest
import zipfile

from tests.support import WorldTest, without_marker, write_tree, zip_bytes

SHEET = '\n[[container]]\nfile = "@data/*.pak"\ndrop = ["signs/*.sig"]\n'
MEMBERS = {
    "maps/north.map": b"north " * 500,
    "maps/south.map": b"south " * 500,
    "text/en.txt": b"one\ntwo\nthree\n",
    "signs/core.sig": b"signed",
}
DIFF = b"--- a\n+++ b\n@@ -1,3 +1,3 @@\n one\n-two\n+2\n three\n"


class ContainersTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.change_sheet(SHEET)
        self.original = zip_bytes(MEMBERS)
        write_tree(self.world.path("game"), {"data/core.pak": self.original})

    def pak(self) -> zipfile.ZipFile:
        content = self.world.game()["data/core.pak"].content or b""
        return zipfile.ZipFile(io.BytesIO(content))

    def members(self) -> dict[str, bytes]:
        with self.pak() as pak:
            self.assertIsNone(pak.testzip())
            return {name: pak.read(name) for name in pak.namelist()}

    def add_two(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"m/north.map": b"tidal", "m/new.map": b"new"},
            place='take = "m/**"\nto = "@data/core.pak!/maps/"',
        )  # fmt: skip
        self.world.add_release(
            "words", "1.0", {"p/en.diff": DIFF, "m/south.map": b"wordy"},
            says='removes = ["@data/core.pak!/maps/nor*"]\nload = { before = ["tides"] }',
            place='take = "m/**"\nto = "@data/core.pak!/maps/"\n[[release.edit]]\n'
            'file = "@data/core.pak!/text/en.txt"\nby = "diff"\nwith = "p/en.diff"',
        )  # fmt: skip

    def test_two_mods_compose_and_vanilla_comes_back(self) -> None:
        self.add_two()
        first = self.world.game()
        self.make_applied()
        expected = {
            "maps/north.map": b"tidal",
            "maps/south.map": b"wordy",
            "text/en.txt": b"one\n2\nthree\n",
            "maps/new.map": b"new",
        }
        self.assertEqual(self.members(), expected)
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.assertTrue(self.world.apply().preview.plan.is_empty)
        self.world.drop("tides")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(self.members().keys(), {"maps/south.map", "text/en.txt"})
        self.world.restore_all()
        self.assertEqual(self.world.game(), first)

    def test_what_stays_is_carried_over_packed_as_it_is(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"x.txt": b"x"}, place='to = "@data/core.pak!/text/"'
        )
        self.make_applied()
        with self.pak() as pak, zipfile.ZipFile(io.BytesIO(self.original)) as old:
            self.assertNotIn("signs/core.sig", pak.namelist())
            for name in ("maps/north.map", "text/en.txt"):
                now, before = pak.getinfo(name), old.getinfo(name)
                fields = ("date_time", "compress_type", "compress_size", "CRC", "external_attr")
                for field in fields:
                    self.assertEqual(getattr(now, field), getattr(before, field))
        made = self.world.game()["data/core.pak"].content
        self.world.restore_all()
        self.world.apply()
        self.assertEqual(self.world.game()["data/core.pak"].content, made)

    def test_preview_and_check_speak_of_members(self) -> None:
        self.add_two()
        self.make_resolved()
        said = self.world.run("preview").stdout
        self.assertIn("1 member added, 3 replaced, 1 dropped", said)
        self.world.apply()
        with zipfile.ZipFile(self.world.path("game", "data", "core.pak"), "a") as pak:
            pak.writestr("maps/mine.map", b"mine")
        said = self.world.run("check").stdout
        self.assertIn("maps/mine.map", said)

    def test_what_cannot_be_changed_is_refused_before_anything_is(self) -> None:
        for broken, words in ((b"no zip at all", "no container"), (self.original[:-30], "no zip")):
            with self.subTest(words):
                self.setUp()
                write_tree(self.world.path("game"), {"data/core.pak": broken})
                self.world.add_release("t", "1.0", {"x": b"x"}, place='to = "@data/core.pak!/"')
                self.make_resolved()
                before = without_marker(self.world.game())
                result = self.world.run("apply", "--yes")
                self.assertEqual(result.returncode, 2)
                self.assertIn(words, result.stderr)
                self.assertEqual(without_marker(self.world.game()), before)
                self.assertFalse(os.path.exists(self.world.path("pack", ".rellum", "work")))

    def test_a_container_of_a_game_that_folds_case(self) -> None:
        self.world.change_sheet(game="folds-case = true")
        write_tree(self.world.path("game"), {"Packs/Core.PAK": zip_bytes({"a": b"a"})})
        self.world.add_release("t", "1.0", {"x": b"x"}, place='to = "@game/packs/core.pak!/"')
        self.make_applied()
        content = self.world.game()["Packs/Core.PAK"].content or b""
        with zipfile.ZipFile(io.BytesIO(content)) as pak:
            self.assertEqual(pak.namelist(), ["a", "x"])

    def test_no_such_container(self) -> None:
        self.world.add_release("t", "1.0", {"x": b"x"}, place='to = "@data/none.pak!/"')
        self.make_resolved()
        self.assertIn("there is no container data/none.pak", self.world.run("apply", "-y").stderr)

    def test_a_member_is_edited_in_a_container_that_a_mod_brings(self) -> None:
        own = zip_bytes({"text/en.txt": b"one\ntwo\nthree\n", "text/de.txt": b"eins"})
        self.world.add_release("tides", "1.0", {"own.pak": own}, place='to = "@data/tides/"')
        self.world.add_release(
            "words", "1.0", {"p/en.diff": DIFF}, says='load = { after = ["tides"] }',
            place='folder = true\nto = "@data/words"\n[[release.edit]]\n'
            'file = "@data/tides/own.pak!/text/en.txt"\nby = "diff"\nwith = "p/en.diff"',
        )  # fmt: skip
        self.make_applied()
        content = self.world.game()["data/tides/own.pak"].content or b""
        with zipfile.ZipFile(io.BytesIO(content)) as pak:
            self.assertEqual(pak.read("text/en.txt"), b"one\n2\nthree\n")
            self.assertEqual(pak.read("text/de.txt"), b"eins")
        self.world.drop("words")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(self.world.game()["data/tides/own.pak"].content, own)

    def test_a_folder_whose_name_ends_in_the_sign_is_a_folder(self) -> None:
        self.world.add_release("tides", "1.0", {"Wow!/a.dat": b"a"}, place='to = "@mods/Ahoy!/"')
        self.make_applied()
        self.assertEqual(self.world.game()["mods/Ahoy!/Wow!/a.dat"].content, b"a")
        self.assertEqual(self.world.check(deep=True).findings, ())

    def test_an_archive_is_laid_packed(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"a.dat": b"a"}, place='packed = true\nto = "@mods/tides.pack"'
        )
        before = self.world.game()
        self.make_applied()
        content = self.world.game()["mods/tides.pack"].content or b""
        with zipfile.ZipFile(io.BytesIO(content)) as pak:
            self.assertEqual(pak.read("a.dat"), b"a")
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.world.checkpoint("packed")
        self.world.restore_all()
        self.assertEqual(self.world.game(), before)
        self.world.rewind("packed")
        self.world.write_game("mods/tides.pack", b"broken")
        self.world.run("restore", "--damaged", "--yes")
        self.assertEqual(self.world.game()["mods/tides.pack"].content, content)


if __name__ == "__main__":
    unittest.main()
