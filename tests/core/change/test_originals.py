"""Originals that nobody else can write into, and the order in which a change is made durable."""

from __future__ import annotations

import errno
import os
import sys
import unittest
from collections.abc import Sequence

from rellum.core.change.execute import RolledBack
from rellum.core.hashing import hash_bytes
from rellum.core.pack.disk import Disk
from rellum.core.pack.originals import FolderChanged, OriginalDamaged, Originals
from tests.core.change.test_interruption import SCENARIOS, Stage
from tests.support import VANILLA, WorldTest


class OriginalsTest(WorldTest):
    def make_ready(self) -> None:
        self.world.add_release("tides", "1", {"data/sea.dat": b"tides"})
        self.make_resolved()

    def originals(self) -> set[bytes]:
        folder = self.world.path("pack", ".rellum", "originals")
        found = set()
        for name in os.listdir(folder):
            with open(os.path.join(folder, name), "rb") as file:
                found.add(file.read())
        return found

    def test_a_file_with_a_second_name_is_copied(self) -> None:
        self.make_ready()
        second = self.world.path("second")
        os.link(self.world.path("game", "data", "sea.dat"), second)
        self.world.apply()
        with open(second, "r+b") as file:
            file.write(b"VANILLA")
        self.assertIn(b"vanilla sea\n", self.originals())

    @unittest.skipUnless(sys.platform == "linux", "only Linux tells who has a file open")
    def test_a_file_that_is_open_for_writing_is_copied(self) -> None:
        self.make_ready()
        with open(self.world.path("game", "data", "sea.dat"), "r+b") as file:
            self.world.apply()
            file.write(b"VANILLA")
            file.flush()
            self.assertIn(b"vanilla sea\n", self.originals())


class VerifiedTest(WorldTest):
    """What enters the store and what leaves it is what its hash says, or nothing happens."""

    def setUp(self) -> None:
        super().setUp()
        self.store = Originals(self.world.path("store"), Disk())
        os.mkdir(self.store.folder)
        self.file = self.world.path("game", "data", "sea.dat")
        self.right = hash_bytes(VANILLA["data/sea.dat"])
        self.wrong = hash_bytes(b"other")

    def spoil(self) -> None:
        with open(self.store.path_of(self.right), "wb") as file:
            file.write(b"spoilt")

    def test_what_is_not_what_was_planned_does_not_enter(self) -> None:
        for put in (self.store.put, self.store.put_copy):
            with self.assertRaises(FolderChanged):
                put(self.file, self.wrong)
            self.assertEqual(os.listdir(self.store.folder), [])
        self.store.put_copy(self.file, self.right)
        self.world.write_game("data/sea.dat", b"changed since")
        with self.assertRaises(FolderChanged):
            self.store.put(self.file, self.right)

    def test_a_damaged_content_is_replaced(self) -> None:
        self.store.put_copy(self.file, self.right)
        self.spoil()
        self.assertFalse(self.store.is_whole(self.right))
        self.store.put(self.file, self.right)
        self.assertTrue(self.store.is_whole(self.right))

    def test_a_damaged_content_does_not_come_out(self) -> None:
        self.store.put_copy(self.file, self.right)
        self.spoil()
        with self.assertRaises(OriginalDamaged):
            self.store.bring_out(self.right, self.world.path("out"), name="sea.dat", keep=True)
        self.assertFalse(self.store.has(self.right))
        self.assertEqual(os.listdir(self.store.folder), [self.right + ".damaged"])


class RecordingDisk(Disk):
    """Notes what happens, in order."""

    def __init__(self, *, fails: bool = False) -> None:
        self.events: list[tuple[str, str]] = []
        self.sources: dict[str, str] = {}
        self.fails = fails

    def flush(self, folder: str, files: Sequence[str], folders: Sequence[str]) -> None:
        super().flush(folder, files, folders)
        self.events += [("flushed", each) for each in (*files, *folders)]

    def move_over(self, source: str, target: str) -> None:
        super().move_over(source, target)
        self.events.append(("moved", target))
        self.sources[target] = source

    def remove(self, path: str) -> None:
        super().remove(path)
        self.events.append(("removed", path))

    def remove_durably(self, path: str) -> None:
        super().remove_durably(path)
        self.events.append(("gone", path))

    def append_durably(self, path: str, content: bytes) -> None:
        super().append_durably(path, content)
        self.events.append(("ready", path))

    def step(self, name: str) -> None:
        if name == "record":
            self.events.append(("record", ""))
            if self.fails:
                raise OSError(errno.EIO, "the state cannot be written")


class OrderTest(WorldTest):
    def test_what_is_flushed_before_what(self) -> None:
        """The contract of the journal: staged and kept, flushed, ready; renamed, flushed, recorded."""
        for scenario in SCENARIOS:
            self.setUp()
            stage = Stage(self.world, scenario)
            self.addCleanup(stage.close)
            stage.reset()
            disk = RecordingDisk()
            stage.action(stage.world, disk)
            with self.subTest(scenario=scenario.__name__):
                self.assert_in_order(stage, disk.events)

    def test_what_is_flushed_when_it_is_taken_back(self) -> None:
        """Staged back and flushed, renamed, flushed; then the journal goes."""
        for scenario in SCENARIOS:
            self.setUp()
            stage = Stage(self.world, scenario)
            self.addCleanup(stage.close)
            stage.reset()
            disk = RecordingDisk(fails=True)
            with self.assertRaises(RolledBack):
                stage.action(stage.world, disk)
            events = disk.events[disk.events.index(("record", "")) :]
            ends = events.index(("gone", stage.world.path("pack", ".rellum", "journal")))
            in_place = (stage.world.path("game") + os.sep, stage.world.path("player") + os.sep)
            with self.subTest(scenario=scenario.__name__):
                for number, (kind, path) in enumerate(events):
                    if kind not in ("moved", "removed") or not path.startswith(in_place):
                        continue
                    self.assertLess(number, ends)
                    if kind == "moved":
                        self.assertIn(("flushed", disk.sources[path]), events[:number])
                    above = os.path.dirname(path)
                    while not os.path.isdir(above):
                        above = os.path.dirname(above)
                    if ".rellum-staging" not in path:
                        self.assertIn(("flushed", above), events[number:ends], path)

    def assert_in_order(self, stage: Stage, events: list[tuple[str, str]]) -> None:
        kinds = [kind for kind, _ in events]
        ready, recorded = kinds.index("ready"), kinds.index("record")
        self.assertLess(ready, recorded)
        game, store = stage.world.path("game"), stage.world.path("pack", ".rellum", "originals")
        in_place = (game + os.sep, stage.world.path("player") + os.sep)
        staging = os.sep + ".rellum-staging"
        for number, (kind, path) in enumerate(events):
            is_in_place = path.startswith(in_place) and staging not in path
            if kind in ("moved", "removed") and is_in_place:
                self.assertTrue(ready < number < recorded, f"{kind} {path} out of its turn")
                folder = os.path.dirname(path)
                while not os.path.isdir(folder):  # it went itself: the one above tells of it
                    folder = os.path.dirname(folder)
                flushed = {each for kind, each in events[number:recorded] if kind == "flushed"}
                self.assertTrue(flushed & {folder, os.path.dirname(path)}, path)
            is_kept = os.path.dirname(path) == store and os.path.exists(path)
            if kind == "moved" and is_kept and number < ready:
                between = events[number:ready]
                self.assertIn(("flushed", path), between, "an original is not flushed before ready")
                self.assertIn(("flushed", store), between)
        staged = [p for kind, p in events[:ready] if kind == "flushed" and staging in p]
        moved = [p for kind, p in events if kind == "moved" and p.startswith(in_place)]
        files = [each for each in staged if os.path.basename(each).isdigit()]
        self.assertGreaterEqual(len(files), len([each for each in moved if staging not in each]))
        flushed = {path for kind, path in events[:ready] if kind == "flushed"}
        for folder in {os.path.dirname(each) for each in files}:
            self.assertLessEqual(
                {folder, os.path.dirname(folder)}, flushed, "names of staged files"
            )
        let_go = [
            n for n, (kind, p) in enumerate(events) if kind == "removed" and p.startswith(store)
        ]
        kept = [n for n in let_go if not events[n][1].endswith(".new")]
        self.assertTrue(
            all(n > recorded for n in kept), "an original went before the change was recorded"
        )


if __name__ == "__main__":
    unittest.main()
