"""Drift: every kind of difference, whose it is, and nothing else."""

from __future__ import annotations

import os
import shutil
import unittest

from tests.support import WorldTest, write_tree


class DriftTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.add_release(
            "tides", "1.0", {"data/sea.dat": b"tidal sea", "mods/tides/a.dat": b"a", "mods/b": b"b"}
        )
        self.make_applied()

    def findings(self, *, deep: bool = False) -> dict[str, tuple[str, str]]:
        drift = self.world.check(deep=deep)
        return {f.path.removeprefix("@game/"): (f.kind, str(f.owner or "")) for f in drift.findings}

    def test_each_kind_has_its_owner(self) -> None:
        self.assertEqual(self.findings(), {})
        self.world.write_game("data/sea.dat", b"changed!!")  # as long as before
        self.world.write_game("data/cables.dat", b"short")
        os.unlink(self.world.path("game", "mods", "b"))
        os.unlink(self.world.path("game", "data", "twin.dat"))
        self.world.write_game("notes.txt", b"mine")
        self.world.write_game("mods/new/deep/x", b"x")
        os.makedirs(self.world.path("game", "hollow"))
        self.assertEqual(
            self.findings(),
            {
                "data/sea.dat": ("changed", "tides 1.0"),
                "data/cables.dat": ("changed", "vanilla"),
                "mods/b": ("missing", "tides 1.0"),
                "data/twin.dat": ("missing", "vanilla"),
                "notes.txt": ("foreign", ""),
                "mods/new/deep/x": ("foreign", ""),
                "hollow": ("foreign", ""),
            },
        )

    def test_which_originals_there_are(self) -> None:
        self.world.write_game("data/sea.dat", b"changed")
        self.world.write_game("data/cables.dat", b"changed")
        self.world.write_game(
            "data/twin.dat", b"changed"
        )  # its content is in the store, by sea.dat
        has = {f.path: f.has_original for f in self.world.check().findings}
        self.assertEqual(
            has, {"@game/data/sea.dat": True, "@game/data/cables.dat": False, "@game/data/twin.dat": True}
        )  # fmt: skip

    def test_only_touched_is_no_finding(self) -> None:
        path = self.world.path("game", "data", "cables.dat")
        os.utime(path, ns=(10**18, 10**18))
        drift = self.world.check()
        self.assertEqual((drift.findings, drift.files_hashed), ((), 1))
        self.assertEqual(drift.touched, ("@game/data/cables.dat",))

    def test_deep_finds_what_size_and_time_hide(self) -> None:
        path = self.world.path("game", "data", "cables.dat")
        status = os.stat(path)
        with open(path, "r+b") as file:
            file.write(b"V")
        os.utime(path, ns=(status.st_mtime_ns, status.st_mtime_ns))
        self.assertEqual(self.findings(), {})
        self.assertEqual(self.findings(deep=True), {"data/cables.dat": ("changed", "vanilla")})
        # What was found once is not forgotten, and can be mended.
        self.assertEqual(self.findings(), {"data/cables.dat": ("changed", "vanilla")})

    def test_the_games_own_files_are_no_drift(self) -> None:
        self.world.write_game("logs/start.log", b"log")
        self.world.write_game("logs/old/start.log", b"log")
        self.assertEqual(self.findings(), {})
        sheet = self.world.path("catalog", "games", "fathomline.toml")
        with open(sheet, encoding="utf-8") as file:
            text = file.read()
        write_tree(
            self.world.path("catalog", "games"),
            {"fathomline.toml": text.replace("logs/**", "**/*.log").encode()},
        )
        self.world.write_game("logs/note.txt", b"")
        self.assertEqual(self.findings(), {"logs/note.txt": ("foreign", "")})
        shutil.rmtree(self.world.path("catalog"))
        # Without its catalog the pack still knows what the game writes itself.
        self.assertEqual(self.findings(), {"logs/note.txt": ("foreign", "")})

    def test_other_kinds_of_entry(self) -> None:
        os.unlink(self.world.path("game", "data", "cables.dat"))
        os.symlink("sea.dat", self.world.path("game", "data", "cables.dat"))
        os.unlink(self.world.path("game", "data", "twin.dat"))
        os.makedirs(self.world.path("game", "data", "twin.dat"))
        shutil.rmtree(self.world.path("game", "expansions"))
        self.assertEqual(
            self.findings(),
            {
                "data/cables.dat": ("changed", "vanilla"),
                "data/twin.dat": ("changed", "vanilla"),
                "expansions": ("missing", "vanilla"),
                "expansions/ice.dat": ("missing", "vanilla"),
            },
        )

    @unittest.skipIf(os.name == "nt", "such names cannot be there")
    def test_names_that_are_no_text(self) -> None:
        with open(os.fsencode(self.world.path("game")) + b"/\xff.dat", "wb"):
            pass
        with open(self.world.path("game", "a\x1b[2J\n.dat"), "wb"):
            pass
        result = self.world.run("check")
        self.assertEqual(result.returncode, 1)
        self.assertIn("\\udcff.dat", result.stdout)
        self.assertIn("a\\x1b[2J\\n.dat", result.stdout)

    def test_folders_go_also_when_their_files_went_by_hand(self) -> None:
        for lost in ("mods/tides/a.dat", "mods/b"):
            os.unlink(self.world.path("game", lost))
        self.world.drop("tides")
        self.world.apply()
        self.assertFalse(os.path.exists(self.world.path("game", "mods")))
        self.assertEqual(self.findings(), {})

    def test_a_folder_of_ours_that_goes_from_one_mod_to_another(self) -> None:
        self.world.add_release("waves", "1.0", {"mods/waves/w.dat": b"w"})
        self.world.take_all()
        self.world.drop("tides")
        self.world.want("waves")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(self.findings(), {})
        self.world.restore_all()
        self.assertNotIn("mods/", self.world.game())

    def test_a_folder_of_ours_that_holds_a_users_file_becomes_the_users(self) -> None:
        self.world.write_game("mods/mine.txt", b"mine")
        self.world.drop("tides")
        self.world.apply()
        self.assertEqual(self.findings(), {"mods/mine.txt": ("foreign", "")})
        shutil.rmtree(self.world.path("game", "mods"))
        self.assertEqual(self.findings(), {})


if __name__ == "__main__":
    unittest.main()
