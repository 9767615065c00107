"""Plans and changes on real files: originals, users' files, later layers, links, space, random days."""

from __future__ import annotations

import os
import shutil
import tempfile
import unittest
from unittest import mock

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from rellum.core.actions.change.apply import preview
from rellum.core.actions.mend.kept import list_kept
from rellum.core.change.execute import RolledBack
from rellum.core.change.readiness import CannotWrite, NoSpace
from rellum.core.change.request import Request
from rellum.core.layers.target import LayerClash
from rellum.core.pack.disk import Disk
from rellum.core.pack.standing import CannotLay
from tests.support import VANILLA, World, WorldTest, ignore_recovery, memory_folder, without_marker


class ApplyTest(WorldTest):
    def content(self, name: str) -> bytes:
        with open(self.world.path("game", name), "rb") as file:
            return file.read()

    def add_tides(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"data/sea.dat": b"tidal sea", "mods/tides/a.dat": b"a"}
        )

    def test_vanilla_comes_back_with_modes_and_times(self) -> None:
        os.chmod(self.world.path("game", "data", "sea.dat"), 0o640)
        os.utime(self.world.path("game", "data", "sea.dat"), ns=(10**18 + 7, 10**18 + 7))
        vanilla = self.world.game(times=True)
        self.add_tides()
        self.make_applied()
        self.assertEqual(self.content("data/sea.dat"), b"tidal sea")
        self.world.restore_all()
        self.assertEqual(self.world.game(times=True), vanilla)

    def test_a_second_apply_touches_nothing(self) -> None:
        self.add_tides()
        self.make_applied()
        before = self.world.game(times=True)
        self.assertTrue(self.world.apply().preview.plan.is_empty)
        self.assertEqual(self.world.game(times=True), before)

    def test_an_update_touches_only_what_differs(self) -> None:
        self.add_tides()
        self.world.add_release("swell", "1", {"mods/swell/s.dat": b"s"})
        self.make_applied()
        before = self.world.game(times=True)
        self.world.add_release(
            "tides", "1.1", {"data/sea.dat": b"tidal sea", "mods/tides/a.dat": b"new"}
        )
        self.world.take_all()
        self.world.want("tides", ">=1.1")
        self.world.resolve()
        self.world.apply()
        after = self.world.game(times=True)
        self.assertEqual(
            {name for name in after if after[name] != before.get(name)},
            {os.path.join("mods", "tides", "a.dat")},
        )
        self.assertEqual(self.world.check().findings, ())

    def test_dropping_gives_the_next_layer_or_the_original(self) -> None:
        self.add_tides()
        self.world.add_release("waves", "1", {"data/sea.dat": b"waves", "data/cables.dat": b"w"})
        self.make_applied()
        self.assertEqual(self.content("data/sea.dat"), b"waves")
        self.world.drop("waves")
        self.world.apply()
        self.assertEqual(self.content("data/sea.dat"), b"tidal sea")
        self.assertEqual(self.content("data/cables.dat"), VANILLA["data/cables.dat"])
        self.world.drop("tides")
        self.world.apply()
        self.assertEqual(
            without_marker(self.world.game()).keys(), {"data/", "expansions/", *VANILLA}
        )

    def test_one_original_goes_while_its_twin_comes_back(self) -> None:
        """Both have the same content: the store must not share its own with the game."""
        vanilla = self.world.game(times=True)
        self.add_tides()
        self.world.add_release("waves", "1", {"data/twin.dat": b"waves"})
        self.make_applied()
        self.world.drop("waves")
        self.world.apply()
        self.world.drop("tides")
        self.world.want("waves")
        self.world.apply()
        self.assertEqual(os.stat(self.world.path("game", "data", "sea.dat")).st_nlink, 1)
        self.world.restore_all()
        self.assertEqual(self.world.game(times=True), vanilla)

    def test_a_file_in_the_way_comes_back_when_the_layer_goes(self) -> None:
        self.add_tides()
        self.world.adopt()
        self.world.write_game("mods/tides/a.dat", b"the user's own")
        self.world.write_game("data/sea.dat", b"vanilla, but edited")
        self.world.take_all()
        self.world.want("tides")
        self.world.resolve()
        self.world.apply()
        [(path, why)] = self.world.restore_all().restoration.plan.left_alone
        self.assertEqual(path, "@game/data/sea.dat")
        self.assertIn("the file under the mod is not the vanilla file", why)
        self.assertEqual(self.content("mods/tides/a.dat"), b"the user's own")
        self.assertEqual(self.content("data/sea.dat"), b"vanilla, but edited")

    def test_what_the_user_changed_in_a_mod_is_kept_aside(self) -> None:
        self.add_tides()
        self.make_applied()
        self.world.write_game("mods/tides/a.dat", b"tuned by hand")
        [operation] = self.world.apply().preview.plan.visible
        self.assertEqual((operation.effect, operation.keep is not None), ("mends", True))
        assert operation.found.content
        digest = operation.found.content.digest
        kept = self.world.path("pack", ".rellum", "originals", digest)
        with open(kept, "rb") as file:
            self.assertEqual(file.read(), b"tuned by hand")
        self.world.restore_all()
        self.assertTrue(os.path.exists(kept))

    def test_what_the_user_changed_is_kept_where_a_release_takes_the_file_away(self) -> None:
        self.add_tides()
        self.make_applied()
        self.world.write_game("data/sea.dat", b"tuned by hand")
        self.world.add_release("ebb", "1", {"e.dat": b"e"}, says='removes = ["@data/sea.dat"]')
        self.world.take_all()
        self.world.want("ebb")
        self.world.resolve()
        self.world.apply()
        self.assertFalse(os.path.exists(self.world.path("game", "data", "sea.dat")))
        [kept] = list_kept(
            Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery)
        )
        with open(self.world.path("pack", ".rellum", "originals", kept.kept.digest), "rb") as file:
            self.assertEqual(file.read(), b"tuned by hand")

    def test_a_file_that_changes_meanwhile_is_not_overwritten(self) -> None:
        """Written by another program between the plan's last look and the renames."""

        class Meddling(Disk):
            def __init__(self, name: str) -> None:
                self.name = name

            def append_durably(self, path: str, content: bytes) -> None:
                super().append_durably(path, content)
                write(self.name)

        def write(name: str) -> None:
            self.world.write_game(name, b"written meanwhile")

        self.add_tides()
        self.world.add_release("ebb", "1", {"e.dat": b"e"}, says='removes = ["@data/cables.dat"]')
        self.make_resolved()
        before = without_marker(self.world.game())
        for name in ("data/sea.dat", "mods/tides/a.dat", "data/cables.dat"):
            with self.subTest(name=name), self.assertRaisesRegex(RolledBack, "changed while"):
                self.world.apply(Meddling(self.world.path("game", name)))
            now = without_marker(self.world.game())
            self.assertEqual(now.pop(name).content, b"written meanwhile")
            was = dict(before)
            was.pop(name, None)
            self.assertEqual({n: e for n, e in now.items() if not n.startswith("mods/")}, was)
            if name in VANILLA:
                self.world.write_game(name, VANILLA[name])
            else:
                shutil.rmtree(self.world.path("game", "mods"))

    def test_a_file_equal_to_vanilla_stays_vanilla(self) -> None:
        self.world.add_release("tides", "1", {"data/sea.dat": VANILLA["data/sea.dat"]})
        self.make_applied()
        self.assertEqual(self.world.restore_all().restoration.plan.visible, ())
        self.world.write_game("data/sea.dat", b"edited")
        self.world.apply()
        self.assertEqual(self.content("data/sea.dat"), VANILLA["data/sea.dat"])
        self.assertTrue(self.world.apply().preview.plan.is_empty)
        self.world.restore_all()
        self.assertEqual(self.content("data/sea.dat"), VANILLA["data/sea.dat"])
        [copy] = list_kept(
            Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery)
        )  # what lay under it is not lost
        self.assertEqual((copy.kept.path, copy.is_there), ("@game/data/sea.dat", True))

    def test_nothing_is_laid_over_folders_or_through_links(self) -> None:
        self.add_tides()
        self.make_resolved()
        outside = self.world.path("outside")
        os.makedirs(outside)
        os.symlink(outside, self.world.path("game", "mods"))
        with self.assertRaisesRegex(CannotLay, "mods is a link"):
            self.world.apply()
        os.unlink(self.world.path("game", "mods"))
        os.makedirs(self.world.path("game", "mods", "tides", "a.dat"))
        with self.assertRaisesRegex(CannotLay, "is a folder now"):
            self.world.apply()
        self.assertEqual(os.listdir(outside), [])
        self.assertEqual(self.content("data/sea.dat"), VANILLA["data/sea.dat"])

    def test_a_file_where_the_game_has_a_folder(self) -> None:
        self.world.add_release("flat", "1", {"data": b"a file"})
        with self.assertRaisesRegex(CannotLay, "is a folder of the game"):
            self.make_applied()
        self.world.add_release("deep", "1", {"data/x": b"x"})
        self.world.take_all()
        self.world.want("deep")
        self.world.resolve()
        with self.assertRaises(LayerClash):
            self.world.apply()

    def test_names_that_are_rellums_own(self) -> None:
        for number, name in enumerate((".rellum-owner.toml", ".rellum-staging/0000000")):
            self.world.add_release(f"bad{number}", "1", {name: b"x", "mods/x": b"x"})
        self.world.adopt()
        self.world.take_all()
        for mod in ("bad0", "bad1"):
            self.world.want(mod)
            self.world.resolve()
            with self.assertRaisesRegex(CannotLay, "a name that Rellum reserves"):
                self.world.apply()
            self.world.drop(mod)

    def test_no_space_is_said_before_anything_happens(self) -> None:
        self.add_tides()
        self.make_resolved()
        before = self.world.game()
        usage = shutil.disk_usage(self.world.root)._replace(free=3)
        with mock.patch("shutil.disk_usage", return_value=usage), self.assertRaises(NoSpace):
            self.world.apply()
        self.assertEqual(self.world.game(), before)

    def test_originals_that_are_copied_need_room(self) -> None:
        self.world.add_release("swell", "1", {"data/cables.dat": b"s"})
        self.make_resolved()
        pack, shelf = self.world.path("pack"), self.world.path("shelf")
        linked = preview(
            Request(pack_folder=pack, shelf_folder=shelf, on_recovered=ignore_recovery)
        ).space.needed
        os.link(self.world.path("game", "data", "cables.dat"), self.world.path("second"))
        copied = preview(
            Request(pack_folder=pack, shelf_folder=shelf, on_recovered=ignore_recovery)
        ).space.needed
        self.assertEqual(copied - linked, len(VANILLA["data/cables.dat"]))

    def test_a_folder_that_cannot_be_written_or_is_not_free(self) -> None:
        self.add_tides()
        self.make_resolved()
        before = self.world.game()
        with mock.patch("os.access", return_value=False), self.assertRaises(CannotWrite):
            self.world.apply()
        os.makedirs(self.world.path("game", ".rellum-staging", "mine"))
        with self.assertRaisesRegex(CannotWrite, "is in the way"):
            self.world.apply()
        shutil.rmtree(self.world.path("game", ".rellum-staging"))
        self.assertEqual(self.world.game(), before)

    def test_an_archive_that_changed_on_the_shelf_is_noticed(self) -> None:
        self.add_tides()
        self.world.adopt()
        [taken] = self.world.take_all()
        assert taken.digest
        self.world.want("tides")
        self.world.resolve()
        path = self.world.path("shelf", "archives", taken.digest[:2], taken.digest)
        with open(path, "rb") as file:
            content = bytearray(file.read())
        content[content.find(b"a.dat") + 8] ^= 4  # inside the packed content of data/sea.dat
        with open(path, "wb") as file:
            file.write(content)
        before = self.world.game()
        with self.assertRaises(RolledBack):
            self.world.apply()
        self.assertEqual(self.world.game(), before)

    def test_a_line_up_made_anew_is_written_only_when_it_is_in_the_game(self) -> None:
        self.add_tides()
        self.make_resolved()
        with open(self.world.path("pack", "rellum.lock"), "rb") as file:
            lock = file.read()
        self.world.add_release("swell", "1", {"mods/s": b"s"})
        self.world.take_all()
        self.world.want("swell")
        with mock.patch("os.access", return_value=False), self.assertRaises(CannotWrite):
            self.world.apply()
        with open(self.world.path("pack", "rellum.lock"), "rb") as file:
            self.assertEqual(file.read(), lock)
        self.world.apply()
        with open(self.world.path("pack", "rellum.lock"), "rb") as file:
            self.assertIn(b'mod = "swell"', file.read())


RELEASES = {
    "tides": ("1", "2"),
    "swell": ("1", "2"),
    "waves": ("1",),
}
PATHS = ("data/sea.dat", "data/twin.dat", "mods/a.dat", "mods/deep/b.dat", "data/cables.dat")


class Days(RuleBasedStateMachine):
    """Random days of a curator: whatever happened, vanilla comes back, byte for byte."""

    def __init__(self) -> None:
        super().__init__()
        self.root = tempfile.mkdtemp(prefix="rellum-days-", dir=memory_folder())
        self.world = World(self.root)
        self.vanilla = self.world.game(times=True)
        for number, (mod, versions) in enumerate(RELEASES.items()):
            for version in versions:
                paths = PATHS[number : number + 3] if version == "1" else PATHS[number + 1 :]
                members = {path: f"{mod} {version} {path}".encode() for path in paths}
                self.world.add_release(mod, version, members)
        self.world.adopt()
        self.world.take_all()
        self.wanted: set[str] = set()

    def teardown(self) -> None:
        self.world.restore_all()
        assert self.world.game(times=True) == self.vanilla
        shutil.rmtree(self.root)

    @rule(mod=st.sampled_from(sorted(RELEASES)), range_text=st.sampled_from(["*", "1"]))
    def want(self, mod: str, range_text: str) -> None:
        self.world.want(mod, range_text)
        self.wanted.add(mod)
        self.world.resolve()

    @precondition(lambda self: self.wanted)
    @rule()
    def drop(self) -> None:
        mod = min(self.wanted)
        self.world.drop(mod)
        self.wanted.remove(mod)
        self.world.resolve()

    @precondition(lambda self: os.path.exists(self.world.path("pack", "rellum.lock")))
    @rule()
    def apply(self) -> None:
        self.world.apply()
        assert self.world.check(deep=True).findings == ()

    @rule()
    def restore(self) -> None:
        self.world.restore_all()

    @rule(path=st.sampled_from(PATHS), lost=st.booleans())
    def break_a_mods_file(self, path: str, lost: bool) -> None:
        laid = {finding.path for finding in self.world.check().findings}
        owner = self.owner(path)
        if owner in ("vanilla", "") or laid:
            return
        if lost:
            os.unlink(self.world.path("game", path))
        else:
            self.world.write_game(path, b"broken " + os.urandom(4))
        [finding] = self.world.check().findings
        assert (finding.path, str(finding.owner or "")) == (f"@game/{path}", owner)

    def owner(self, path: str) -> str:
        try:
            with open(self.world.path("game", path), "rb") as file:
                words = file.read().split()
        except FileNotFoundError:
            return ""
        is_mods = words[0].decode("latin-1") in RELEASES
        return b" ".join(words[:2]).decode() if is_mods else "vanilla"

    @invariant()
    def no_journal_is_left(self) -> None:
        assert not os.path.exists(self.world.path("pack", ".rellum", "journal"))


DaysTest = Days.TestCase
DaysTest.settings = settings(max_examples=40, stateful_step_count=14, deadline=None)

if __name__ == "__main__":
    unittest.main()
