"""Resolving and applying hang together: what changed is noticed, patches lie over their full release."""

from __future__ import annotations

import os
import unittest

from rellum.core.actions.match.resolve import resolve
from rellum.core.actions.match.wants import BadRange
from rellum.core.change.request import Request
from rellum.core.composing.line_up import NoLineUpExists
from rellum.core.folder.scan import scan_stamps
from rellum.core.pack.home import PackHome
from rellum.core.pack.lock_file import NoLineUp
from rellum.core.pack.open_state import open_state
from tests.support import WorldTest, ignore_recovery


class ResolveTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.add_release("tides", "1.0", {"mods/a": b"full", "mods/b": b"full"})
        self.world.adopt()

    def content(self, name: str) -> bytes:
        with open(self.world.path("game", name), "rb") as file:
            return file.read()

    def test_a_patch_is_laid_over_its_full_release(self) -> None:
        self.world.add_release("tides", "1.1", {"mods/b": b"patched"}, says='patches = "1.0"')
        self.world.want("tides")
        [release] = self.world.resolve().lock.releases
        self.assertEqual([file.name for file in release.files], ["tides-1.0.zip", "tides-1.1.zip"])
        self.world.take_all()
        self.world.apply()
        self.assertEqual((self.content("mods/a"), self.content("mods/b")), (b"full", b"patched"))

    def test_what_stands_stays_unless_fresh(self) -> None:
        self.world.want("tides")
        self.world.resolve()
        self.world.add_release("tides", "2.0", {"mods/a": b"two"})
        self.assertEqual(self.world.resolve().lock.releases[0].version, "1.0")
        fresh = resolve(
            Request(
                pack_folder=self.world.path("pack"),
                shelf_folder=self.world.path("shelf"),
                on_recovered=ignore_recovery,
            ),
            fresh=True,
        )
        self.assertEqual(fresh.lock.releases[0].version, "2.0")
        assert fresh.before
        self.assertEqual(str(fresh.before[fresh.lock.releases[0].mod]), "1.0")

    def test_apply_chooses_anew_when_the_wants_changed(self) -> None:
        self.world.add_release("swell", "1", {"mods/s": b"s"}, says='needs = { tides = "*" }')
        self.world.take_all()
        self.world.want("swell")
        self.world.resolve()
        self.assertFalse(self.world.apply().preview.made_anew)
        self.world.drop("swell")
        self.world.want("tides")
        result = self.world.apply()
        self.assertTrue(result.preview.made_anew)
        self.assertFalse(os.path.exists(self.world.path("game", "mods", "s")))
        self.assertFalse(self.world.apply().preview.made_anew)
        self.world.drop("tides")
        self.world.apply()
        self.assertFalse(os.path.exists(self.world.path("game", "mods")))

    def test_a_line_up_for_another_game_or_a_lost_release(self) -> None:
        self.world.want("tides")
        self.world.resolve()
        self.world.take_all()
        lock = self.world.path("pack", "rellum.lock")
        with open(lock, encoding="utf-8") as file:
            text = file.read()
        with open(lock, "w", encoding="utf-8") as file:
            file.write(text.replace('version = "1.0"', 'version = "0.9"'))
        self.assertTrue(self.world.apply().preview.made_anew)
        with open(lock, "w", encoding="utf-8") as file:
            file.write(text.replace('sheet = "fathomline"', 'sheet = "other"'))
        with self.assertRaisesRegex(NoLineUp, "is for the game other"):
            self.world.apply()

    def test_ranges_follow_the_ordering_of_the_mod_they_speak_of(self) -> None:
        self.world.cards["flags"] = '[mod]\nid = "flags"\nname = "F"\nversions = "listed"\n'
        for name in ("Neap Tide", "Spring Tide", "Autumn"):
            self.world.add_release("flags", name, {"mods/f": name.encode()})
        self.world.add_release("deep", "1", {"mods/d": b"d"}, says='needs = { flags = "<Autumn" }')
        self.world.want("flags", ">=Neap Tide")
        [release] = self.world.resolve().lock.releases
        self.assertEqual(release.version, "Autumn")
        self.world.want("deep")
        found = {each.mod: each.version for each in self.world.resolve().lock.releases}
        self.assertEqual(found, {"flags": "Spring Tide", "deep": "1"})
        self.world.take_all()
        self.world.apply()
        self.assertEqual(self.content("mods/f"), b"Spring Tide")
        with self.assertRaisesRegex(BadRange, "'Summer' is no release that the card lists"):
            self.world.want("flags", ">Summer")

    def test_missing_cards_are_part_of_the_refusal(self) -> None:
        self.world.add_release("swell", "1", {"mods/s": b"s"}, says='needs = { keel = ">=2" }')
        self.world.want("swell")
        with self.assertRaises(NoLineUpExists) as caught:
            self.world.resolve()
        details = "\n".join(caught.exception.details)
        self.assertIn("swell 1 needs keel >=2", details)
        self.assertIn("keel >=2, for which there is no card", details)

    def test_stamps_are_what_a_new_scan_would_give(self) -> None:
        """The quick check stands on this: after any change, stamps and folder are the same."""
        self.world.add_release("swell", "1", {"data/sea.dat": b"s", "mods/deep/er/s": b"s"})
        self.world.take_all()
        for step in ("tides", "swell", "-tides", "-swell", "tides"):
            if step.startswith("-"):
                self.world.drop(step[1:])
            else:
                self.world.want(step)
            self.world.resolve()
            self.world.apply()
            self.assert_stamps_true()
        self.world.restore_all()
        self.assert_stamps_true()

    def assert_stamps_true(self) -> None:
        state = open_state(PackHome(self.world.path("pack")))
        self.addCleanup(state.close)
        self.assertEqual(state.stamps(), scan_stamps(self.world.path("game"), {}).differing)


if __name__ == "__main__":
    unittest.main()
