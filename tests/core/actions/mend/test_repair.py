"""Why the folder differs, and putting just that right: from originals, the shelf, and clean copies."""

from __future__ import annotations

import os
import shutil
import unittest

from rellum.core.actions.mend.repair import restore_damaged
from rellum.core.actions.mend.restore import RestoreResult, restore_paths
from rellum.core.change.request import Request
from rellum.core.change.supplies import NoSupply
from rellum.core.values.paths import PlacePath
from tests.support import VANILLA, WorldTest, ignore_recovery, write_tree, zip_bytes


class RepairTest(WorldTest):
    def make_world(self, *, says: str = "", place: str = 'to = "@game/"') -> None:
        files = {"data/sea.dat": b"tides", "mods/tides/a.dat": b"a"}
        self.world.add_release("tides", "1", files, says=says, place=place)
        self.make_applied()
        self.applied = self.world.game()

    def repair(self, source: str = "") -> RestoreResult:
        pack, shelf = self.world.path("pack"), self.world.path("shelf")
        return restore_damaged(
            Request(pack_folder=pack, shelf_folder=shelf, on_recovered=ignore_recovery),
            lambda _: True,
            source=source,
        )

    def causes(self) -> dict[str, str]:
        return {
            each.path.removeprefix("@game/"): each.cause for each in self.world.check().findings
        }

    def test_a_lost_folder_that_a_release_wants_comes_back(self) -> None:
        place = 'to = "@game/"\n[[release.place]]\nfolder = true\nto = "@mods/cache/inner/"'
        self.make_world(place=place)
        shutil.rmtree(self.world.path("game", "mods", "cache"))
        self.assertIn("rellum restore --damaged", self.world.run("check").stdout)
        self.assertIn("Restored: 2 folders", self.world.run("restore", "--damaged", "--yes").stdout)
        self.assertEqual(self.world.game(), self.applied)
        self.assertEqual(self.world.check().findings, ())

    def test_what_an_update_wrote_over_a_mod_is_left_to_apply(self) -> None:
        self.make_world()
        self.world.write_game("version.txt", b"version: 1.6.1\nedition: boxed\n")
        self.world.write_game("data/sea.dat", b"newer sea")
        self.assertEqual(self.causes()["data/sea.dat"], "game-update")
        done = self.world.run("restore", "--damaged", "--yes")
        self.assertIn("data/sea.dat is not as it should be: it may be of the game's", done.stderr)
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"newer sea")
        self.world.apply()
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"tides")
        self.world.restore_all()
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"newer sea")

    def test_each_finding_has_its_cause(self) -> None:
        self.make_world(says='obsolete = ["@mods/tides_old/**"]')
        game = self.world.path("game")
        self.world.write_game("data/sea.dat", b"other")
        self.world.write_game("data/cables.dat", b"other")
        os.unlink(os.path.join(game, "mods", "tides", "a.dat"))
        os.unlink(os.path.join(game, "expansions", "ice.dat"))
        os.rename(os.path.join(game, "data", "twin.dat"), os.path.join(game, "data", "Twin.dat"))
        write_tree(
            game, {"mods/tides_old/x": b"x", "mods/mine": b"m", "mine": b"m", "logs/a": b"a"}
        )
        os.utime(os.path.join(game, "version.txt"), ns=(1, 1))
        drift = self.world.check()
        self.assertEqual(
            self.causes(),
            {
                "data/sea.dat": "mod-changed",
                "data/cables.dat": "vanilla-changed",
                "mods/tides/a.dat": "mod-missing",
                "expansions/ice.dat": "vanilla-missing",
                "data/twin.dat": "case-changed",
                "mods/tides_old/x": "left-over",
                "mods/mine": "foreign-shared",
                "mine": "foreign",
            },
        )
        sea = PlacePath("@game/data/sea.dat")
        for pattern, words in (
            ("data", "the game rewrites it"),
            ("mods", "not by the game"),
        ):
            self.world.change_sheet(game=f'rewrites = ["@{pattern}/*.dat"]')
            details = {each.path: each.detail for each in self.world.check().findings}
            self.assertIn(words, details[sea])
        self.assertEqual(drift.touched, ("@game/version.txt",))
        self.assertIsNone(drift.update)

    def test_many_changed_at_once_are_damage_all_the_same(self) -> None:
        many = {f"data/f{number}": b"v%d" % number for number in range(12)}
        write_tree(self.world.path("game"), many)
        self.make_world()
        for name in list(many)[:8]:
            self.world.write_game(name, b"newer")
        drift = self.world.check()
        self.assertIsNone(drift.update)
        self.assertEqual({each.cause for each in drift.findings}, {"vanilla-changed"})

    def test_only_what_is_damaged_comes_back(self) -> None:
        self.make_world()
        write_tree(self.world.path("backup"), {f"in/a/folder/{n}": c for n, c in VANILLA.items()})
        write_tree(
            self.world.path("backup"), {"wrong/cables.dat": b"x" * len(VANILLA["data/cables.dat"])}
        )
        self.world.write_game("data/sea.dat", b"other")
        self.world.write_game("data/cables.dat", b"other")
        os.unlink(self.world.path("game", "mods", "tides", "a.dat"))
        result = self.repair()  # what Rellum never had stays, and is named
        left = [path for path, _ in result.restoration.plan.left_alone]
        self.assertEqual(left, ["@game/data/cables.dat"])
        self.assertEqual(self.causes(), {"data/cables.dat": "vanilla-changed"})
        with self.assertRaises(NoSupply):
            self.repair(self.world.path("nowhere"))
        self.repair(self.world.path("backup"))
        self.assertEqual(self.world.game(), self.applied)
        self.assert_store_holds_what_is_needed()

    def test_from_an_archive_and_for_single_files(self) -> None:
        self.make_world()
        write_tree(
            self.world.root, {"backup.zip": zip_bytes({f"g/{n}": c for n, c in VANILLA.items()})}
        )
        os.unlink(self.world.path("game", "data", "cables.dat"))
        pack, archive = self.world.path("pack"), self.world.path("backup.zip")
        restore_paths(
            Request(pack_folder=pack, on_recovered=ignore_recovery),
            ["data/cables.dat"],
            lambda _: True,
            archive,
        )
        self.assertEqual(self.world.game(), self.applied)
        self.world.write_game("data/cables.dat", b"other")
        refused = restore_paths(
            Request(pack_folder=pack, on_recovered=ignore_recovery),
            ["data"],
            lambda _: False,
            archive,
        )
        self.assertFalse(refused.done)
        self.assertEqual(self.world.game()["data/cables.dat"].content, b"other")
        self.assert_store_holds_what_is_needed()

    def test_other_capitals_are_a_matter_of_renaming(self) -> None:
        self.make_world()
        for name, other in (
            ("data/cables.dat", "data/CABLES.dat"),
            ("mods/tides/a.dat", "mods/tides/A.dat"),
        ):
            os.rename(self.world.path("game", name), self.world.path("game", other))
        self.assertEqual(set(self.causes().values()), {"case-changed"})
        self.repair()
        self.assertEqual(self.world.game(), self.applied)
        os.rename(self.world.path("game", "data/cables.dat"), self.world.path("game", "data/C.dat"))
        write_tree(self.world.path("game"), {"data/CABLES.dat": b"another file"})
        self.repair()  # a checkpoint still has the content
        self.assertEqual(self.world.game()["data/CABLES.dat"].content, b"another file")
        self.assertIn("data/cables.dat", self.world.game())

    def test_what_was_made_is_made_again(self) -> None:
        write_tree(self.world.path("game"), {"data/core.pak": zip_bytes({"a": b"a"})})
        self.make_world(place='take = "mods/**"\nto = "@data/core.pak!/x/"')
        self.world.write_game("data/core.pak", b"broken")
        self.repair()
        self.assertEqual(self.world.game(), self.applied)

    def test_mods_come_from_the_shelf_whatever_the_pack_wants_now(self) -> None:
        self.make_world()
        self.world.drop("tides")
        self.world.write_game("mods/tides/a.dat", b"other")
        self.repair()
        self.assertEqual(self.world.game(), self.applied)


if __name__ == "__main__":
    unittest.main()
