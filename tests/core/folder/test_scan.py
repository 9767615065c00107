"""The quick scan sees exactly what differs, in one process or two; and surroundings are noticed."""

from __future__ import annotations

import os
import tempfile
import unittest
from unittest import mock

from rellum.core.folder import ahead, ahead_process, listing, scan, stamps, surroundings
from rellum.core.pack.new_state import stamp_row
from rellum.core.workers import run_both
from tests.support import WorldTest, write_tree


def stamps_of(root: str) -> dict[str, bytes]:
    return scan.scan_stamps(root, {}).differing


class ScanTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = folder.name
        files = {f"d{n % 7}/e{n % 3}/f{n}.dat": b"%d" % n for n in range(300)}
        write_tree(self.root, {**files, "top.txt": b"t"})

    def test_unchanged_in_one_process_and_in_two(self) -> None:
        recorded = stamps_of(self.root)
        for least in (0, 1 << 40):
            with mock.patch.object(scan, "_FORK_FROM_BYTES", least):
                found = scan.scan_stamps(self.root, recorded)
            self.assertEqual((found.differing, found.missing), ({}, frozenset()))
            self.assertEqual(found.files, 301 + 7 + 21)

    def test_differences(self) -> None:
        recorded = stamps_of(self.root)
        write_tree(self.root, {"d1/new/x": b"n", "d2/e2/f2.dat": b"longer"})
        os.rename(os.path.join(self.root, "d3"), os.path.join(self.root, "d9"))
        for least in (0, 1 << 40):
            with mock.patch.object(scan, "_FORK_FROM_BYTES", least):
                found = scan.scan_stamps(self.root, recorded)
            self.assertEqual(
                set(found.differing),
                {"@game", "@game/d1", "@game/d1/new", "@game/d2/e2", "@game/d9",
                 "@game/d9/e0", "@game/d9/e1", "@game/d9/e2"},
            )  # fmt: skip
            self.assertEqual(
                found.missing, {f"@game/d3{each}" for each in ("", "/e0", "/e1", "/e2")}
            )

    def test_both_ways_of_reading_agree(self) -> None:
        os.symlink("nowhere", os.path.join(self.root, "link"))
        for folder, _, _ in os.walk(self.root):
            by_path = scan._rows_by_path(folder)
            self.assertEqual(*[tuple(map(sorted, f)) for f in (by_path, self.read(folder))])

    def read(self, folder: str):
        return (scan._rows_by_descriptor if scan._HAS_DESCRIPTORS else scan._rows_by_path)(folder)

    def test_list_and_scan_agree(self) -> None:
        os.symlink("top.txt", os.path.join(self.root, "link"))
        rows: dict[str, list[str]] = {"@game": []}
        for entry in listing.list_folder(self.root):
            folder, _, name = entry.path.rpartition("/")
            row = stamp_row(name, entry.kind, entry.size, entry.mtime_ns, entry.target)
            rows.setdefault(folder, []).append(row)
        listed = {folder: stamps.join_rows(each) for folder, each in rows.items()}
        self.assertEqual(listed, stamps_of(self.root))

    def test_an_error_in_the_second_process_is_raised_here(self) -> None:
        def fail() -> int:
            raise PermissionError(13, "no", "x")

        with self.assertRaises(PermissionError):
            run_both(lambda: 1, fail)
        self.assertEqual(run_both(lambda: 1, lambda: 2), (1, 2))


@unittest.skipUnless(hasattr(os, "fork"), "needs fork")
class AheadTest(WorldTest):
    """What another process reads ahead counts only if it is of the same state."""

    def setUp(self) -> None:
        super().setUp()
        self.enterContext(mock.patch.object(ahead_process, "LARGE", 0))
        self.world.add_release("tides", "1", {"data/sea.dat": b"tides", "mods/tides/a.dat": b"a"})
        self.make_applied()
        self.state = self.world.path("pack", ".rellum", "state.db")

    def findings(self) -> list[str]:
        return [each.path for each in self.world.check().findings]

    def test_the_same_is_found(self) -> None:
        for name in ("x/y/z.txt", "mods/b.dat"):
            write_tree(self.world.path("game"), {name: b"foreign"})
        os.unlink(self.world.path("game", "data", "cables.dat"))
        plain = self.findings()
        ahead_process.begin(self.state)
        self.assertIn(self.state, ahead._begun)
        self.assertEqual(self.findings(), plain)
        self.assertEqual(ahead._begun, {})
        self.assertEqual(len(plain), 3)

    def test_what_a_change_has_overtaken_does_not_count(self) -> None:
        ahead_process.begin(self.state)
        self.world.restore_all()  # another state: what was begun is of the one before
        self.world.apply()
        self.assertEqual(self.findings(), [])

    def test_a_process_that_dies_is_done_without(self) -> None:
        ahead_process.begin(self.state)
        begun = ahead._begun[self.state]
        os.kill(begun.child, 9)
        write_tree(self.world.path("game"), {"mods/b.dat": b"foreign"})
        self.assertEqual(self.findings(), ["@game/mods/b.dat"])

    def test_nothing_is_begun_without_a_state_or_with_a_journal(self) -> None:
        ahead_process.begin(self.world.path("nowhere"))
        write_tree(self.world.path("pack"), {".rellum/journal": b""})
        ahead_process.begin(self.state)
        self.assertEqual(ahead._begun, {})


class SurroundingsTest(unittest.TestCase):
    def warnings(self, folder: str, *paths: str) -> str:
        entries = [
            listing.FolderEntry(path=path, kind="file", size=0, mode=0, mtime_ns=0, target="")
            for path in paths
        ]
        return "\n".join(surroundings.warnings_for(folder, entries))

    def test_places_where_packs_go_wrong(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            self.assertEqual(self.warnings(folder, "@game/a"), "")
            self.assertIn("close to the 260", self.warnings(folder, "@game/" + "x" * 250))
            cloud = os.path.join(folder, "CloudStorage", "game")
            os.makedirs(cloud)
            self.assertIn("cloud service", self.warnings(cloud))
            with mock.patch.dict(os.environ, {"ProgramFiles": folder}):
                self.assertIn("the system protects", self.warnings(folder))
            with mock.patch.object(os, "link", side_effect=OSError):
                self.assertIn("no hard links", self.warnings(folder))
            whole = lambda path, ns: None  # noqa: E731 - a clock that keeps whole seconds only
            with mock.patch.object(os, "utime", whole):
                self.assertIn("clock is coarse", self.warnings(folder))
            self.assertEqual(os.listdir(folder), ["CloudStorage"])


if __name__ == "__main__":
    unittest.main()
