"""Restore: files, folders, a mod, everything; across disks too."""

from __future__ import annotations

import os
import shutil
import tempfile
import unittest
from contextlib import AbstractContextManager
from unittest import mock

from rellum.core.actions.mend.kept import list_kept
from rellum.core.actions.mend.restore import (
    NoOriginal,
    NothingToRestore,
    RestoreResult,
    restore_mod,
    restore_paths,
)
from rellum.core.change.readiness import NoSpace
from rellum.core.change.request import Request
from tests.support import VANILLA, World, WorldTest, ignore_recovery, snapshot, write_tree


class RestoreTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.add_release(
            "tides", "1.0", {"data/sea.dat": b"tidal sea", "mods/tides/a.dat": b"a"}
        )
        self.world.add_release("swell", "1.0", {"data/cables.dat": b"swell", "mods/s.dat": b"s"})
        self.make_applied()

    def paths(self, *paths: str) -> RestoreResult:
        return restore_paths(
            Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery),
            paths,
            lambda _: True,
        )

    def content(self, name: str) -> bytes | None:
        try:
            with open(self.world.path("game", name), "rb") as file:
                return file.read()
        except FileNotFoundError:
            return None

    def test_one_file_by_any_spelling(self) -> None:
        for spelling in (
            "data/sea.dat",
            "./data//sea.dat",
            "@game/data/sea.dat",
            self.world.path("game", "data", "sea.dat"),
        ):
            self.paths(spelling)
            self.assertEqual(self.content("data/sea.dat"), VANILLA["data/sea.dat"])
            self.assertEqual(self.content("data/cables.dat"), b"swell")
            self.assertEqual(self.world.check().findings, ())
            self.world.apply()
            self.assertEqual(self.content("data/sea.dat"), b"tidal sea")

    def test_a_folder(self) -> None:
        self.paths("data")
        self.assertEqual(self.content("data/sea.dat"), VANILLA["data/sea.dat"])
        self.assertEqual(self.content("data/cables.dat"), VANILLA["data/cables.dat"])
        self.assertEqual(self.content("mods/s.dat"), b"s")
        self.paths(".")
        self.assertFalse(os.path.exists(self.world.path("game", "mods")))

    def test_a_mod_and_only_that(self) -> None:
        result = restore_mod(
            Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery),
            "tides",
            lambda _: True,
        ).restoration
        self.assertEqual(len(result.plan.visible), 2)
        self.assertEqual(self.content("data/sea.dat"), VANILLA["data/sea.dat"])
        self.assertFalse(os.path.exists(self.world.path("game", "mods", "tides")))
        self.assertEqual(self.content("data/cables.dat"), b"swell")
        with self.assertRaisesRegex(NothingToRestore, "the game has no files of 'tides'"):
            restore_mod(
                Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery),
                "tides",
                lambda _: True,
            )

    def test_saying_no_changes_nothing(self) -> None:
        before = self.world.game(times=True)
        result = restore_paths(
            Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery),
            ["data/sea.dat"],
            lambda _: False,
        )
        self.assertFalse(result.done)
        self.assertEqual(self.world.game(times=True), before)

    def test_vanilla_that_was_never_replaced(self) -> None:
        self.assertEqual(self.paths("version.txt").restoration.plan.operations, ())
        self.world.write_game("version.txt", b"edited")
        with self.assertRaises(NoOriginal):
            self.paths("version.txt")
        # The same content lies in the store, by another file that a layer displaced.
        self.world.write_game("data/twin.dat", b"edited")
        self.paths("data/twin.dat")
        self.assertEqual(self.content("data/twin.dat"), VANILLA["data/twin.dat"])
        [kept] = list_kept(
            Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery)
        )
        with open(self.world.path("pack", ".rellum", "originals", kept.kept.digest), "rb") as file:
            self.assertEqual(file.read(), b"edited")

    def test_lost_vanilla_folders_come_back(self) -> None:
        os.makedirs(self.world.path("game", "empty"))
        other = World(self.world.path("other"))
        os.makedirs(other.path("game", "empty", "inner"))
        other.adopt()
        before = snapshot(other.path("game")).keys()
        shutil.rmtree(other.path("game", "empty"))
        other.restore_all()
        self.assertEqual(snapshot(other.path("game")).keys() | {".rellum-owner.toml"}, before)
        self.assertEqual(other.check().findings, ())

    def test_what_only_a_look_at_every_byte_finds_is_not_said_to_be_vanilla(self) -> None:
        file = self.world.path("game", "data", "twin.dat")
        status = os.stat(file)
        with open(file, "r+b") as stream:
            stream.write(b"V")
        os.utime(file, ns=(status.st_mtime_ns, status.st_mtime_ns))
        write_tree(self.world.path("copy"), VANILLA)
        said = self.world.run("restore", "--all", "--yes").stdout
        self.assertIn("By size and time, the game is as it was adopted", said)
        deep = ("restore", "--all", "--deep", "--yes")
        done = self.world.run(*deep)
        self.assertEqual(done.returncode, 1)
        self.assertIn("data/twin.dat is not as it should be", done.stderr)
        done = self.world.run(*deep, "--from", self.world.path("copy"))
        self.assertIn("Byte for byte, the game is as it was adopted", done.stdout)
        self.assertEqual(self.world.game()["data/twin.dat"].content, VANILLA["data/twin.dat"])

    def test_a_missing_original_is_named(self) -> None:
        shutil.rmtree(self.world.path("pack", ".rellum", "originals"))
        before = self.world.game()
        plan = self.world.restore_all().restoration.plan
        [left] = [why for path, why in plan.left_alone if path == "@game/data/cables.dat"]
        self.assertIn("no copy is kept of the file from before the mod", left)
        self.assertEqual(self.world.game()["data/cables.dat"], before["data/cables.dat"])
        write_tree(self.world.path("clean"), VANILLA)
        self.world.restore_all(source=self.world.path("clean"))
        self.assertEqual(self.content("data/cables.dat"), VANILLA["data/cables.dat"])

    def test_game_and_pack_on_different_disks(self) -> None:
        elsewhere = tempfile.mkdtemp()  # worlds are in memory where that can be
        self.addCleanup(shutil.rmtree, elsewhere)
        if os.stat(elsewhere).st_dev == os.stat(self.world.root).st_dev:
            self.skipTest("there is only one disk here")
        world = World(os.path.join(elsewhere, "w"))
        shutil.rmtree(world.path("pack"))
        os.symlink(self.world.path("far"), world.path("pack"))
        os.makedirs(self.world.path("far"))
        vanilla = world.game(times=True)
        world.add_release("tides", "1.0", {"data/sea.dat": b"tidal", "data/twin.dat": b"sea"})
        world.adopt()
        world.take_all()
        world.want("tides")
        world.resolve()
        # What is kept needs room on the pack's disk, and what comes back on the game's.
        with self.full(self.world.path("far")), self.assertRaises(NoSpace):
            world.apply()
        world.apply()
        self.assertEqual(world.check(deep=True).findings, ())
        with self.full(world.path("game")), self.assertRaises(NoSpace):
            world.restore_all()
        world.restore_all()
        self.assertEqual(world.game(times=True), vanilla)

    def full(self, folder: str) -> AbstractContextManager[object]:
        """Let the disk of a folder be full, and others not."""
        device, plenty = os.stat(folder).st_dev, shutil.disk_usage(folder)._replace(free=10**9)

        def usage(asked: str) -> object:
            return plenty._replace(free=5) if os.stat(asked).st_dev == device else plenty

        return mock.patch("shutil.disk_usage", usage)


if __name__ == "__main__":
    unittest.main()
