"""Settings: merged with the user's changes, left, or replaced; and the user's own files carried."""

from __future__ import annotations

import os
import unittest

from rellum.core.actions.mend.kept import list_kept
from rellum.core.change.request import Request
from rellum.core.composing.settling import UnsettledSettings
from rellum.core.errors import UserError
from rellum.core.hashing import hash_bytes
from rellum.core.pack.home import PackHome
from rellum.core.pack.open_state import open_state
from rellum.core.values.paths import PlacePath
from tests.support import Entry, WorldTest, ignore_recovery, write_tree

ONE = b"; sea\n[view]\nwaves = high\nfog = on\n"
TWO = b"; sea\n[view]\nwaves = huge\nfog = on\nfoam = on\n"


class SettingsTest(WorldTest):
    def add(self, version: str, content: bytes, rule: str = "merge", more: str = "") -> None:
        self.world.add_release(
            "tides", version, {"tides.ini": content, "own/a.pre": version.encode()},
            says=f'{more}\n[release.settings]\n"@mods/t/*.ini" = "{rule}"',
            place='to = "@mods/t/"',
        )  # fmt: skip

    def settings(self) -> bytes:
        return self.world.game()["mods/t/tides.ini"].content or b""

    def change(self, old: bytes, new: bytes) -> None:
        self.assertIn(old, self.settings())
        self.world.write_game("mods/t/tides.ini", self.settings().replace(old, new))

    def update(self) -> None:
        """Go to the newest release."""
        self.world.take_all()
        self.world.resolve(fresh=True)
        self.world.apply()

    def test_capitals_in_keys_are_what_the_sheet_says(self) -> None:
        for says, result in (
            ("", b"[View]\nWaves = high\n"),
            ('exact-keys = ["@mods/t/*.ini"]', b"[View]\nWaves = low\nwaves = high\n"),
        ):
            with self.subTest(says):
                self.setUp()
                self.world.change_sheet(game=says)
                self.world.adopt()
                self.world.write_game("mods/t/tides.ini", b"[View]\nWaves = low\n")
                self.world.change_pack('[settings]\n"@mods/t/" = "theirs"\n')
                self.add("1.0", b"[View]\nwaves = high\n")
                self.world.take_all()
                self.world.want("tides")
                self.world.apply()
                self.assertEqual(self.settings(), result)
                self.world.restore_all()
                self.assertEqual(self.settings(), b"[View]\nWaves = low\n")

    def test_the_players_own_is_never_vanilla_and_never_replaced(self) -> None:
        """Whoever brings the path or takes it away, and if it was there at adoption; it may be deleted."""
        own = {"saves/a.sav": b"one", "saves/b.sav": b"two", "mods/own/my.ini": b"mine"}
        self.world.change_sheet(places='saves = "@game/saves"')
        write_tree(self.world.path("game"), own)
        self.world.add_release(
            "own",
            "1",
            {"mods/own/my.ini": b"theirs", "a": b"a"},
            says='carry = ["@mods/own/my.ini"]',
        )
        taking = {"saves/a.sav": b"evil", "mods/own/my.ini": b"evil", "e": b"e"}
        self.world.add_release("evil", "1", taking, says='removes = ["@game/saves/b.sav"]')
        self.make_applied()
        for name, content in own.items():
            self.assertEqual(self.world.game()[name].content, content, name)
        os.unlink(self.world.path("game", "saves", "b.sav"))
        self.world.write_game("saves/a.sav", b"one more")
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.world.restore_all()
        game = self.world.game()
        self.assertNotIn("saves/b.sav", game)
        self.assertEqual(game["saves/a.sav"].content, b"one more")
        self.assertEqual(game["mods/own/my.ini"].content, b"mine")

    def test_each_rule(self) -> None:
        changed = ONE.replace(b"fog = on", b"fog = off ; at night")
        both = changed.replace(b"high", b"huge") + b"foam = on\n"
        for rule, result in (("merge", both), ("leave", changed), ("replace", TWO)):
            with self.subTest(rule):
                self.setUp()
                self.add("1.0", ONE, rule)
                first = self.world.game()
                self.make_applied()
                self.change(b"fog = on", b"fog = off ; at night")
                drift = self.world.check()
                self.assertEqual(bool(drift.findings), rule == "replace")
                self.add("2.0", TWO, rule)
                self.update()
                self.assertEqual(self.settings(), result)
                self.world.restore_all()
                self.assertEqual(self.world.game(), first)

    def test_the_users_change_outlives_several_releases(self) -> None:
        self.add("1.0", ONE)
        self.make_applied()
        self.change(b"waves = high", b"waves = none")
        for version, foam in (("1.1", b"a"), ("1.2", b"b"), ("1.3", b"c")):
            self.add(version, ONE + b"foam = " + foam + b"\n")
            self.update()
            self.assertIn(b"waves = none", self.settings())
            self.assertIn(b"foam = " + foam, self.settings())
        self.assert_store_holds_what_is_needed()
        self.assertTrue(self.world.apply().preview.plan.is_empty)

    def test_what_the_release_wants_is_noted_although_the_file_stays(self) -> None:
        self.add("1.0", ONE)
        self.make_applied()
        self.change(b"waves = high", b"waves = low")
        mine = self.settings()
        self.world.apply()  # from now on the file is as it was left
        self.world.change_pack('\n[settings]\n"@mods/t/tides.ini" = "mine"\n')
        self.world.cards.clear()
        newer = ONE.replace(b"high", b"huge")
        self.add("1.0", newer)  # the same version, made anew
        self.update()
        self.assertEqual(self.settings(), mine)
        state = open_state(PackHome(self.world.path("pack")))
        self.addCleanup(state.close)
        path = PlacePath("@game/mods/t/tides.ini")
        self.assertEqual(state.laid([path])[path].base, hash_bytes(newer))

    def test_a_conflict_is_shown_and_settled_by_the_pack(self) -> None:
        self.add("1.0", ONE)
        self.make_applied()
        self.change(b"waves = high", b"waves = low")
        self.add("2.0", TWO)
        before = self.world.game()
        with self.assertRaises(UnsettledSettings) as caught:
            self.update()
        [detail] = caught.exception.details
        self.assertEqual(detail, "mods/t/tides.ini: view.waves: yours = low, tides 2.0 = huge")
        self.assertEqual(self.world.game(), before)
        self.assertIn("open: 'apply' asks", self.world.run("preview").stdout)
        self.world.change_pack('\n[settings]\n"@mods/t" = "theirs"\n')
        result = self.world.run("apply", "--yes")
        self.assertIn("a copy of that is kept", result.stdout)
        self.assertEqual(self.settings(), TWO)

    def test_merged_settings_wait_for_their_mod_to_come_back(self) -> None:
        self.add("1.0", ONE)
        first = self.world.game()
        self.make_applied()
        self.change(b"fog = on", b"fog = off")
        self.add("2.0", TWO)
        self.update()
        mixed = self.settings()
        self.world.drop("tides")
        result = self.world.run("apply", "--yes")
        self.assertIn("is kept until tides comes back", result.stdout)
        self.assertNotIn("mods/t/tides.ini", self.world.game())
        self.world.want("tides")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(self.settings(), mixed)
        self.assertTrue(self.world.apply().preview.plan.is_empty)
        self.assertEqual(self.world.check().findings, ())
        self.add("3.0", TWO + b"more = 1\n")
        self.update()
        self.assertEqual(self.settings(), mixed + b"more = 1\n")
        self.world.restore_all()
        self.assertEqual(self.world.game(), first)

    def test_mine_wins_and_the_rest_comes(self) -> None:
        self.add("1.0", ONE)
        self.make_applied()
        self.change(b"waves = high", b"waves = low")
        self.add("2.0", TWO)
        self.world.change_pack('\n[settings]\n"@mods/t/tides.ini" = "mine"\n')
        self.update()
        self.assertEqual(self.settings(), TWO.replace(b"huge", b"low"))

    def test_a_vanilla_settings_file_is_merged_too(self) -> None:
        write_tree(self.world.path("game"), {"settings.ini": ONE})
        self.world.add_release(
            "tides", "1.0", {"settings.ini": TWO}, place='to = "@game/"',
            says='[release.settings]\n"@game/settings.ini" = "merge"',
        )  # fmt: skip
        self.make_applied()
        self.world.write_game("settings.ini", TWO + b"[own]\nx = 1\n")
        self.assertEqual(self.world.check().findings, ())
        self.assertEqual(self.world.check().own_changes, ("@game/settings.ini",))
        self.world.restore_all()
        self.assertEqual(self.world.game()["settings.ini"].content, ONE)

    def test_a_vanilla_file_that_was_changed_before_any_mod_came(self) -> None:
        write_tree(self.world.path("game"), {"settings.ini": ONE})
        self.world.add_release(
            "tides", "1.0", {"settings.ini": TWO}, place='to = "@game/"',
            says='[release.settings]\n"@game/settings.ini" = "merge"',
        )  # fmt: skip
        self.make_resolved()
        self.world.write_game("settings.ini", ONE + b"[own]\nx = 1\n")
        with self.assertRaises(UnsettledSettings):  # nobody knows what it was
            self.world.apply()
        self.world.change_pack('\n[settings]\n"settings.ini" = "theirs"\n')
        self.world.apply()
        now = self.world.game()["settings.ini"].content or b""
        self.assertEqual(now, TWO + b"[own]\nx = 1\n")
        self.world.restore_all()
        self.assertEqual(self.world.game()["settings.ini"].content, ONE + b"[own]\nx = 1\n")

    def test_what_does_not_parse_is_left_untouched(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"a.json": b'{"a": 1}'}, place='to = "@mods/t/"',
            says='[release.settings]\n"@mods/t/a.json" = "merge"',
        )  # fmt: skip
        self.make_applied()
        self.world.write_game("mods/t/a.json", b'{"a": 1,\n oops}')
        self.world.add_release(
            "tides", "2.0", {"a.json": b'{"a": 2}'}, place='to = "@mods/t/"',
            says='[release.settings]\n"@mods/t/a.json" = "merge"',
        )  # fmt: skip
        before = self.world.game()
        with self.assertRaisesRegex(UserError, "mods/t/a.json:2: is no JSON"):
            self.update()
        self.assertEqual(self.world.game(), before)


class CarryTest(WorldTest):
    def add(self, version: str, files: dict[str, bytes]) -> None:
        self.world.add_release(
            "tides", version, files, says='carry = ["@mods/t/own/**"]', place='to = "@mods/t/"'
        )

    def test_through_an_update_a_new_laying_and_a_removal(self) -> None:
        self.add("1.0", {"a.dat": b"1", "own/x.pre": b"x", "own/y.pre": b"y", "own/z.pre": b"z"})
        first = self.world.game()
        self.make_applied()
        self.world.write_game("mods/t/own/x.pre", b"my x")
        self.world.write_game("mods/t/own/z.pre", b"my z")
        self.world.write_game("mods/t/own/new.pre", b"my own")
        self.assertEqual(self.world.check().findings, ())
        self.add("2.0", {"a.dat": b"2", "own/x.pre": b"x2", "own/y.pre": b"y2"})
        self.world.take_all()
        self.world.resolve(fresh=True)
        self.world.apply()
        kept = {"a.dat": b"2", "own/x.pre": b"my x", "own/y.pre": b"y2", "own/z.pre": b"my z",
                "own/new.pre": b"my own"}  # fmt: skip
        found = self.world.game()
        for name, content in kept.items():
            self.assertEqual(found[f"mods/t/{name}"].content, content, name)
        os.unlink(self.world.path("game", "mods", "t", "a.dat"))
        self.world.apply()
        self.assertEqual(self.world.game(), found)
        self.world.drop("tides")
        result = self.world.run("apply", "--yes")
        for name in ("x.pre", "z.pre", "new.pre"):
            self.assertIn(f"mods/t/own/{name}", result.stdout)
        self.assertEqual(self.world.game(), {**first, **self.marker()})
        kept_paths = [
            each.kept.path
            for each in list_kept(
                Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery)
            )
        ]
        self.assertEqual(len(kept_paths), len(set(kept_paths)), kept_paths)
        # The mod comes back, and with it what the user had there.
        self.world.want("tides")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(self.world.game(), found)

    def test_a_folder_that_an_update_no_longer_fills_keeps_what_is_the_users(self) -> None:
        self.add("1.0", {"a.dat": b"1", "own/x.pre": b"x"})
        self.make_applied()
        self.world.write_game("mods/t/own/x.pre", b"my x")
        self.world.write_game("mods/t/own/new.pre", b"my own")
        self.add("2.0", {"a.dat": b"2"})
        self.world.take_all()
        self.world.resolve(fresh=True)
        self.world.apply()
        found = self.world.game()
        self.assertEqual(found["mods/t/own/x.pre"].content, b"my x")
        self.assertEqual(found["mods/t/own/new.pre"].content, b"my own")
        self.assertEqual(self.world.check().findings, ())
        self.assertTrue(self.world.apply().preview.plan.is_empty)

    def marker(self) -> dict[str, Entry]:
        name = ".rellum-owner.toml"
        return {name: self.world.game()[name]}

    def test_left_overs_of_older_releases_are_offered_and_swept(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"a.dat": b"1"}, place='to = "@mods/t/"',
            says='obsolete = ["@mods/old_t/**", "**/tides_old.dat", "@data/sea.dat"]',
        )  # fmt: skip
        first = self.world.game()
        self.make_resolved()
        left = {"mods/old_t/x.dat": b"x", "data/deep/tides_old.dat": b"y"}
        write_tree(self.world.path("game"), left)
        preview = self.world.run("preview").stdout
        self.assertIn("2 files left over from older releases; --sweep sets them aside", preview)
        self.world.apply()
        self.assertLessEqual(left.keys(), self.world.game().keys())
        result = self.world.run("apply", "--sweep", "--yes")
        self.assertEqual(result.returncode, 0, result.stderr)
        self.assertIn("2 left-over files moved out; 'rellum sweep --back last'", result.stdout)
        self.assertFalse(left.keys() & self.world.game().keys())
        self.assertEqual(self.world.check().findings[0].detail, "an empty folder")
        self.assertEqual(first["data/sea.dat"], self.world.game()["data/sea.dat"])


if __name__ == "__main__":
    unittest.main()
