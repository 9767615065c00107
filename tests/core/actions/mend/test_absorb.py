"""What something else changed becomes a mod; files that are nobody's go out; the store is kept out."""

from __future__ import annotations

import os
import stat
import subprocess
import sys
import unittest

from rellum.core.actions.mend.absorb import absorb, begin
from rellum.core.actions.mend.guard import NothingToGuard, guard
from rellum.core.actions.mend.own_mod import Absorbing, CannotAbsorb
from rellum.core.actions.mend.sweep import NothingSwept, bring_back, list_sweeps, sweep
from rellum.core.change.request import Request
from rellum.core.change.running import GameRunning
from tests.support import VANILLA, Entry, WorldTest, ignore_recovery, without_marker, write_tree


class AbsorbTest(WorldTest):
    def make_world(self) -> None:
        self.world.add_release("tides", "1", {"data/sea.dat": b"tides", "mods/tides/a.dat": b"a"})
        self.make_applied()

    def absorb(self, name: str = "mine", *paths: str) -> Absorbing:
        pack, shelf = self.world.path("pack"), self.world.path("shelf")
        return absorb(
            Request(pack_folder=pack, shelf_folder=shelf, on_recovered=ignore_recovery),
            name,
            paths,
            lambda _: True,
        )[0]

    def break_things(self) -> None:
        """As an installer does: change vanilla and a mod, add, and take away."""
        self.world.write_game("data/cables.dat", b"other cables")
        self.world.write_game("mods/tides/a.dat", b"other a")
        write_tree(self.world.path("game"), {"tool/tool.bin": b"tool"})
        os.unlink(self.world.path("game", "data", "twin.dat"))

    def files(self) -> dict[str, Entry]:
        return {n: e for n, e in without_marker(self.world.game()).items() if not n.endswith("/")}

    @unittest.skipIf(os.name == "nt", "no such names there")
    def test_what_no_archive_can_hold_stays_and_is_named(self) -> None:
        self.make_world()
        game = self.world.path("game").encode()
        for name in (b"\xff\xfe.txt", b'quote".txt', b"new\nline.txt", b"plain.txt"):
            with open(os.path.join(game, name), "wb") as file:
                file.write(name)
        planned = self.absorb()
        self.assertEqual([each.path for each in planned.findings], ["@game/plain.txt"])
        self.assertEqual(len(planned.left), 3)
        self.assertTrue(all("name" in each.detail for each in planned.left))
        self.world.run("vet")
        self.assertEqual(self.world.run("apply", "--yes").returncode, 0)

    @unittest.skipIf(os.name == "nt", "no such names there")
    def test_names_that_look_like_patterns_mean_themselves(self) -> None:
        for name in ("a[1].dat", "a1.dat", "[ab].dat", "b.dat", "**"):
            self.world.write_game(f"data/{name}", name.encode())
        self.world.adopt()
        begin(Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery))
        for name in ("a[1].dat", "[ab].dat", "**"):
            os.unlink(self.world.path("game", "data", name))
        after = self.files()
        planned = self.absorb()
        self.assertEqual([each.path for each in planned.left], ["@game/data/**"])
        self.assertEqual(self.world.run("apply", "--yes").returncode, 0)
        self.assertEqual(self.files(), after)
        self.world.restore_all()
        self.assertIn("data/a[1].dat", self.files())
        self.world.apply()
        self.assertEqual(self.files(), after)

    def test_what_a_program_did_comes_and_goes_like_any_mod(self) -> None:
        self.make_world()
        applied = self.world.game()
        begin(Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery))
        self.break_things()
        changed = self.world.game()
        planned = self.absorb()
        self.assertEqual(
            {each.kind for each in planned.findings}, {"changed", "foreign", "missing"}
        )
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.world.apply()
        self.assertEqual(self.world.game(), changed)  # all stays where it stands
        self.world.write_game("tool/tool.bin", b"newer tool")
        self.assertEqual(self.absorb().version, "2")
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.world.drop("mine")
        self.world.apply()
        self.assertEqual(self.world.game(), applied)
        self.world.run("shelf", "trim", "--yes")  # nobody else has its archive
        self.world.want("mine")
        self.world.apply()
        self.assertEqual(self.world.game()["tool/tool.bin"].content, b"newer tool")
        self.assertNotIn("data/twin.dat", self.world.game())
        self.world.restore_all()
        self.assertEqual({n: e.content for n, e in self.files().items()}, VANILLA)

    def test_only_what_is_named_and_only_what_can_be(self) -> None:
        self.make_world()
        with self.assertRaises(CannotAbsorb):
            self.absorb()
        self.break_things()
        with self.assertRaises(CannotAbsorb):  # begun too late
            begin(Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery))
        with self.assertRaisesRegex(CannotAbsorb, "already has a mod 'tides'"):
            self.absorb("tides")
        self.absorb("mine", "tool")
        left = {each.path for each in self.world.check().findings}
        self.assertEqual(
            left, {"@game/data/cables.dat", "@game/data/twin.dat", "@game/mods/tides/a.dat"}
        )

    def test_foreign_files_are_swept_out_and_brought_back(self) -> None:
        self.make_world()
        applied = self.world.game()
        write_tree(self.world.path("game"), {"tool/deep/x": b"x", "mods/mine.txt": b"mine"})
        os.mkdir(self.world.path("game", "empty"))
        os.symlink("nowhere", self.world.path("game", "link"))
        odd = os.path.join(os.fsencode(self.world.path("game")), b"odd-\xff")
        with open(odd, "wb"):
            pass
        pack = self.world.path("pack")
        planned, done = sweep(
            Request(pack_folder=pack, on_recovered=ignore_recovery), (), lambda _: True
        )
        self.assertTrue(done)
        self.assertEqual(
            [why for _, why in planned.left],
            ["it is not a regular file", "its name is not valid Unicode"],
        )
        os.unlink(odd)
        os.unlink(self.world.path("game", "link"))
        self.assertEqual(self.world.game(), applied)
        [swept] = list_sweeps(Request(pack_folder=pack, on_recovered=ignore_recovery))
        self.assertEqual(swept.files, ("@game/mods/mine.txt", "@game/tool/deep/x"))
        write_tree(self.world.path("game"), {"mods/mine.txt": b"another"})
        _, taken = bring_back(Request(pack_folder=pack, on_recovered=ignore_recovery), "last")
        self.assertEqual(taken, ("@game/mods/mine.txt",))
        self.assertEqual(self.world.game()["tool/deep/x"].content, b"x")
        os.unlink(self.world.path("game", "mods", "mine.txt"))
        bring_back(Request(pack_folder=pack, on_recovered=ignore_recovery), swept.name)
        self.assertEqual(self.world.game()["mods/mine.txt"].content, b"mine")
        with self.assertRaises(NothingSwept):
            bring_back(Request(pack_folder=pack, on_recovered=ignore_recovery), "last")

    def test_the_guard_keeps_modes_and_tells_when_it_is_broken(self) -> None:
        self.make_world()
        pack = self.world.path("pack")
        with self.assertRaises(NothingToGuard):
            guard(Request(pack_folder=pack, on_recovered=ignore_recovery), True)
        write_tree(self.world.path("player"), {"updates.list": b"list"})
        self.world.change_sheet(
            places='store = "{documents}/F"', game='store-files = ["@game/version.txt", "@store/*"]'
        )
        self.world.change_pack('[game.places]\nstore = "../player"\n')
        files = [self.world.path("game", "version.txt"), self.world.path("player", "updates.list")]
        os.chmod(files[0], 0o664)
        before = [stat.S_IMODE(os.stat(file).st_mode) for file in files]
        for _ in range(2):  # guarding twice keeps the first modes
            self.assertEqual(
                len(guard(Request(pack_folder=pack, on_recovered=ignore_recovery), True).files), 2
            )
        self.assertFalse(any(os.stat(file).st_mode & 0o222 for file in files))
        os.chmod(files[0], 0o644)
        found = self.world.check().guard
        assert found
        self.assertIn("@game/version.txt", found.broken)
        guard(Request(pack_folder=pack, on_recovered=ignore_recovery), False)
        self.assertEqual([stat.S_IMODE(os.stat(file).st_mode) for file in files], before)
        self.assertIsNone(self.world.check().guard)

    def test_a_running_game_is_named_and_nothing_changes(self) -> None:
        self.make_world()
        script = self.world.path("game", "play.py")
        write_tree(self.world.path("game"), {"play.py": b"__import__('sys').stdin.read()"})
        for words, where in (
            ([sys.executable, script], "/"),
            ([sys.executable, "-c", "__import__('sys').stdin.read()"], self.world.path("game")),
            (
                [
                    sys.executable,
                    "-c",
                    f"f = open({script!r}); print('on'); __import__('sys').stdin.read()",
                ],
                "/",
            ),
        ):
            with self.subTest(words=words):
                game = subprocess.Popen(
                    words, cwd=where, stdin=subprocess.PIPE, stdout=subprocess.PIPE
                )
                try:
                    if "print" in words[-1]:
                        assert game.stdout
                        game.stdout.readline()
                    with self.assertRaisesRegex(GameRunning, str(game.pid)):
                        self.world.rewind()
                finally:
                    game.communicate()
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"tides")
        self.world.rewind()


if __name__ == "__main__":
    unittest.main()
