"""Originals that nobody else can write into, and the order in which a change is made durable."""

from __future__ import annotations

import os
import sys
import unittest
from collections.abc import Sequence

from rellum.core.change.disk import Disk
from tests.core.change.test_interruption import SCENARIOS, Stage
from tests.support import WorldTest


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


class RecordingDisk(Disk):
    """Notes what happens, in order."""

    def __init__(self) -> None:
        self.events: list[tuple[str, str]] = []

    def flush(self, folder: str, files: Sequence[str], folders: Sequence[str]) -> None:
        super().flush(folder, files, folders)
        self.events += [("flushed", each) for each in (*files, *folders)]

    def move_over(self, source: str, target: str) -> None:
        super().move_over(source, target)
        self.events.append(("moved", target))

    def remove(self, path: str) -> None:
        super().remove(path)
        self.events.append(("removed", path))

    def append_durably(self, path: str, content: bytes) -> None:
        super().append_durably(path, content)
        self.events.append(("ready", path))

    def step(self, name: str) -> None:
        if name == "record":
            self.events.append(("record", ""))


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
        let_go = [
            n for n, (kind, p) in enumerate(events) if kind == "removed" and p.startswith(store)
        ]
        kept = [n for n in let_go if not events[n][1].endswith(".new")]
        self.assertTrue(
            all(n > recorded for n in kept), "an original went before the change was recorded"
        )


if __name__ == "__main__":
    unittest.main()
