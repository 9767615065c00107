"""Going back: what was at a checkpoint is there again, byte for byte, with line-up and settings."""

from __future__ import annotations

import os
import random
import unittest
from unittest import mock

from rellum.core.actions.mend.rewind import BadName, NameTaken, NoCheckpoint, list_checkpoints
from rellum.core.change.request import Request
from rellum.core.pack import checkpoints
from rellum.core.pack.checkpoints import superfluous
from tests.support import WorldTest, ignore_recovery, write_tree

SETTINGS = 'take = "files/**"\nto = "@game/"\n[[release.place]]\ntake = "set/**"\nto = "@settings/"'
MERGED = '[release.settings]\n"@settings/*.ini" = "merge"\n'


class RewindTest(WorldTest):
    def add(self, mod: str, version: str, files: dict[str, bytes]) -> None:
        members = {f"files/{name}": content for name, content in files.items()}
        members[f"set/{mod}.ini"] = f"[a]\nversion = {version}\n".encode()
        self.world.add_release(mod, version, members, says=MERGED, place=SETTINGS)

    def make_world(self) -> None:
        self.world.change_sheet(places='settings = "{documents}/F"')
        write_tree(self.world.path("player"), {"view.ini": b"fog = on\n"})
        self.add("tides", "1", {"data/sea.dat": b"tides", "mods/tides/a": b"a"})
        self.add("tides", "2", {"data/sea.dat": b"tides 2", "mods/tides/b": b"b"})
        self.add("swell", "1", {"data/sea.dat": b"swell", "data/twin.dat": b"swell"})
        self.world.adopt()
        self.world.change_pack('[game.places]\nsettings = "../player"\n')
        self.world.take_all()

    def want(self, mod: str, range_text: str = "*") -> None:
        self.world.want(mod, range_text)
        self.world.resolve()

    def texts(self) -> dict[str, bytes]:
        found = {}
        for name in ("rellum.toml", "rellum.lock"):
            with open(self.world.path("pack", name), "rb") as file:
                found[name] = file.read()
        return found

    def test_the_last_change_is_undone_with_line_up_and_times(self) -> None:
        self.make_world()
        self.want("tides", "1")
        self.world.apply()
        before, texts = self.world.game(times=True), self.texts()
        self.want("tides", "2")
        self.world.apply()
        after, new_texts = self.world.game(times=True), self.texts()
        self.world.rewind()
        self.assertEqual(self.world.game(times=True), before)
        self.assertEqual(self.texts(), texts)
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.world.rewind()  # what a rewind did is undone by the next
        self.assertEqual(self.world.game(times=True), after)
        self.assertEqual(self.texts(), new_texts)
        self.assertTrue(self.world.rewind("2").done)
        self.world.restore_all()
        self.assert_store_holds_what_is_needed()

    def test_settings_come_back_that_only_the_player_changed(self) -> None:
        self.make_world()
        self.want("tides")
        self.world.apply()
        self.world.checkpoint("calm")
        write_tree(
            self.world.path("player"),
            {"view.ini": b"fog = off\n", "tides.ini": b"[a]\nmine = 1\n", "new.ini": b"new"},
        )
        self.world.rewind("calm")
        outside = {n: e.content for n, e in self.world.game().items() if n.startswith("outside/")}
        self.assertEqual(outside["outside/view.ini"], b"fog = on\n")
        self.assertEqual(outside["outside/tides.ini"], b"[a]\nversion = 2\n")
        self.assertEqual(outside["outside/new.ini"], b"new")  # nobody's to take away
        self.world.rewind()
        with open(self.world.path("player", "view.ini"), "rb") as file:
            self.assertEqual(file.read(), b"fog = off\n")

    def test_a_file_changed_by_hand_is_kept_and_what_is_lost_is_named(self) -> None:
        self.make_world()
        self.want("tides", "1")
        self.world.apply()
        self.world.write_game("data/sea.dat", b"by hand")
        self.want("tides", "2")
        self.world.apply()
        self.world.rewind()  # as it stood: with the change by hand, which is drift as before
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"by hand")
        self.assertEqual(
            [each.path for each in self.world.check().findings], ["@game/data/sea.dat"]
        )
        originals = self.world.path("pack", ".rellum", "originals")
        for name in os.listdir(originals):
            os.unlink(os.path.join(originals, name))
        result = self.world.rewind()
        self.assertIn("@game/data/sea.dat", [path for path, _ in result.rewinding.plan.left_alone])

    def test_what_lies_under_a_file_that_comes_back_is_what_stands_there_now(self) -> None:
        self.make_world()
        self.want("tides", "1")
        self.world.apply()
        self.world.restore_all()
        self.world.write_game("data/sea.dat", b"by hand")  # the vanilla file is nowhere any more
        self.world.rewind()
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"tides")
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.world.restore_all()
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"by hand")

    def test_names_and_marks(self) -> None:
        self.make_world()
        with self.assertRaises(NoCheckpoint):
            self.world.rewind()
        with self.assertRaises(BadName):
            self.world.checkpoint("7")
        first = self.world.checkpoint("calm", good=True)
        self.assertEqual(self.world.checkpoint().number, first.number)  # nothing changed since
        with self.assertRaisesRegex(NoCheckpoint, "did you mean 'calm'"):
            self.world.rewind("clam")
        self.want("tides")
        self.world.apply()
        with self.assertRaisesRegex(NameTaken, "checkpoint 1 of"):
            self.world.checkpoint("calm")
        second = self.world.checkpoint("breeze")
        self.assertEqual(self.world.checkpoint("breeze").number, second.number)
        third = self.world.checkpoint("gale")  # of the same state; nobody loses a name
        listed = list_checkpoints(
            Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery)
        )
        self.assertEqual([each.name for each in listed], ["gale", "breeze", "", "calm"])
        self.assertEqual((third.good, listed[-1].good), (False, True))
        self.assertEqual(self.world.rewind(good=True).rewinding.checkpoint.number, first.number)

    def test_any_checkpoint_after_many_changes_thinned_or_not(self) -> None:
        """Random changes; after each, every checkpoint that is left leads to what was there then."""
        dice = random.Random(5)
        self.make_world()
        self.want("tides", "1")
        self.world.apply()
        seen: dict[int, object] = {}
        self.enterContext(mock.patch.object(checkpoints, "KEPT_IN_FULL", 4))
        for round_ in range(14):
            kind = dice.choice(("want", "want", "drop", "restore", "rewind"))
            if kind == "want":
                self.want(dice.choice(("tides", "swell")), dice.choice(("*", "1")))
            elif kind == "drop":
                try:
                    self.world.drop(dice.choice(("tides", "swell")))
                except Exception as error:
                    self.assertEqual(getattr(error, "code", ""), "not-wanted")
            now, number = self.world.game(), self.world.checkpoint().number
            seen[number] = now
            if kind == "restore":
                self.world.restore_all()
            elif kind == "rewind":
                left = list_checkpoints(
                    Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery)
                )
                back = dice.choice([each.number for each in left if each.number in seen])
                self.world.rewind(str(back))
                self.assertEqual(self.world.game(), seen[back], (round_, back))
            else:
                self.world.apply()
            self.assertEqual(self.world.check(deep=True).findings, ())
            self.assert_store_holds_what_is_needed()
        left = list_checkpoints(
            Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery)
        )
        self.assertLessEqual(len(left), 6)
        self.enterContext(mock.patch.object(checkpoints, "KEPT_IN_FULL", 99))
        for each in left:
            if each.number in seen:
                self.world.rewind(str(each.number))
                self.assertEqual(self.world.game(), seen[each.number])


class OwnFilesTest(WorldTest):
    """Files that a card calls the player's, in the folder of a mod that goes and comes."""

    def setUp(self) -> None:
        super().setUp()
        own = 'carry = ["@game/mods/tides/my.ini", "@game/mods/tides/presets/**"]'
        files = {
            "data/sea.dat": b"tidal",
            "mods/tides/a.dat": b"a",
            "mods/tides/my.ini": b"x = 1\n",
        }
        self.world.change_sheet(places='saves = "@game/saves"')
        write_tree(self.world.path("game"), {"saves/a.sav": b"save"})
        self.world.add_release("tides", "1.0", files, says=own)
        self.make_applied()

    def change(self) -> dict[str, bytes | None]:
        mine = {"mods/tides/my.ini": b"x = 2\n", "mods/tides/presets/d.ini": b"mine"}
        write_tree(self.world.path("game"), mine)
        return self.tree()

    def tree(self) -> dict[str, bytes | None]:
        return {name: e.content for name, e in self.world.game().items() if "tides" in name}

    def test_they_wait_for_their_mod_where_a_rewind_takes_it_out(self) -> None:
        mine = self.change()
        said = self.world.run("rewind", "--yes").stdout
        self.assertIn("mods/tides/my.ini is kept until tides comes back", said)
        self.assertNotIn("Your own files stay", said)
        self.assertEqual(self.tree(), {})
        self.assertEqual(self.world.check().findings, ())
        self.assertIn("Nothing to do", self.world.run("sweep", "--yes").stdout)
        self.world.run("rewind", "--yes")
        self.assertEqual(self.tree(), mine)

    def test_a_switch_says_only_of_what_stays_that_it_stays(self) -> None:
        said = self.world.run("variant", "use", "vanilla", "--yes")
        self.assertIn("stay: saves/a.sav\n", said.stderr)
        self.assertEqual(self.tree(), {})
        self.world.run("variant", "use", "main", "--yes")
        mine = self.change()
        said = self.world.run("variant", "use", "vanilla", "--yes")
        self.assertIn("2 of yours set aside", said.stdout)
        self.assertIn("stay: saves/a.sav\n", said.stderr)
        self.assertEqual(self.tree(), {})
        self.assertEqual(self.world.run("variant", "use", "main", "--yes").returncode, 0)
        self.assertEqual(self.tree(), mine)


class ThinningTest(unittest.TestCase):
    def test_the_newest_the_last_of_each_day_and_the_marked_stay(self) -> None:
        rows = [(30 - n, f"2026-11-{20 - n // 3:02}T0{9 - n % 3}:00:00Z", 0) for n in range(30)]
        gone = superfluous(rows, "2026-10-21")
        self.assertEqual(gone, [n for n in range(20, 0, -1) if (30 - n) % 3])
        rows = [(number, made_at, 1) for number, made_at, _ in rows]
        self.assertEqual(superfluous(rows, "2026-10-21"), [])
        old = [(n, "2026-01-01T00:00:00Z", 0) for n in range(12, 0, -1)]
        self.assertEqual(superfluous(old, "2026-10-21"), [2, 1])


if __name__ == "__main__":
    unittest.main()
