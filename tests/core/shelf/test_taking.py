"""One pass over the bytes, whatever fails on the way; the index of before; what an archive may be."""

from __future__ import annotations

import hashlib
import os
import signal
import sqlite3
import subprocess
import sys
import time
import unittest
from typing import Any
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.archives.model import ArchiveFault, Member
from rellum.core.catalog.load import load_catalog
from rellum.core.errors import UserError
from rellum.core.hashing import Digest, hash_bytes
from rellum.core.shelf import intake
from rellum.core.shelf.folder_pack import pack_folder
from rellum.core.shelf.index import _SCHEMA, Origin, ShelfFault
from rellum.core.shelf.intake import Passage, StillComing
from rellum.core.shelf.likeness import likeliest
from rellum.core.shelf.store import Shelf
from rellum.core.shelf.take_in import StoreOptions, take
from rellum.core.values.ids import SheetId
from rellum.core.values.paths import MemberPath
from tests.support import WorldTest, write_tree, zip_bytes

CONTENT = zip_bytes({f"d/{n}.dat": os.urandom(30_000) for n in range(8)}, 0)


class PassageTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        write_tree(self.world.path("in"), {"a.zip": CONTENT})
        self.source = self.world.path("in", "a.zip")
        self.shelf = Shelf(self.world.path("shelf"))
        self.addCleanup(self.shelf.close)

    def left(self) -> list[str]:
        """Return all files on the shelf but its index."""
        found = [name for _, _, names in os.walk(self.shelf.folder) for name in names]
        return [name for name in found if name != "shelf.db"]

    @settings(max_examples=40, deadline=None)
    @given(st.binary(max_size=5000), st.integers(1, 700), st.booleans())
    def test_hashes_of_one_pass(self, content, chunk, reflinks) -> None:
        write_tree(self.world.path("in"), {"x": content})
        source, target = self.world.path("in", "x"), self.world.path("in", "copy")
        shared = mock.patch.object(intake, "reflink", return_value=False)
        with mock.patch.object(intake, "CHUNK_BYTES", chunk), shared:
            passage = Passage(source, target, "copy", frozenset({"sha256", "md5", "crc32"}))
            passage.wait_for(len(content) // 2)
            hashes = passage.finish()
        self.assertEqual((hashes.size, hashes.digest), (len(content), hash_bytes(content)))
        self.assertEqual(hashes.others["sha256"], hashlib.sha256(content).hexdigest())
        self.assertEqual(hashes.others["md5"], hashlib.md5(content).hexdigest())
        with open(target, "rb") as file:
            self.assertEqual(file.read(), content)

    def test_a_file_that_grows_is_refused(self) -> None:
        real = intake._hasher

        def growing(name: str) -> Any:
            with open(self.source, "ab") as file:
                file.write(b"more")
            return real(name)

        with mock.patch.object(intake, "_hasher", growing), self.assertRaises(StillComing):
            take(self.shelf, self.source, StoreOptions(also=frozenset({"sha256"})))
        self.assertEqual(self.left(), [])

    def test_any_failure_leaves_shelf_and_source_as_they_were(self) -> None:
        no_space = OSError(28, "No space left on device")
        gone_bad = OSError(5, "Input/output error")
        for by in ("copy", "link", "move"):
            for name, error in (("os.fsync", no_space), ("os.replace", gone_bad)):
                if by != "copy" and name == "os.fsync":
                    continue  # nothing is written then
                broken = mock.patch(name, side_effect=error)
                with broken, self.assertRaises(ShelfFault, msg=f"{by} {name}"):
                    take(self.shelf, self.source, StoreOptions(by=by))
                self.assertEqual(self.left(), [])
                with open(self.source, "rb") as file:
                    self.assertEqual(file.read(), CONTENT)

        def disapprove(_: object) -> None:
            raise ArchiveFault("not that one")

        with self.assertRaises(ArchiveFault):
            take(self.shelf, self.source, StoreOptions(by="move", approve=disapprove))
        self.assertEqual(self.left(), [])
        self.assertTrue(os.path.exists(self.source))

    def test_killed_at_any_moment_the_next_take_is_whole(self) -> None:
        program = (
            "import sys; from rellum.core.shelf.store import Shelf\n"
            "from rellum.core.shelf.take_in import take, Taking\n"
            "print('ready', flush=True)\n"
            "take(Shelf(sys.argv[1]), sys.argv[2], Taking(by='move'))\n"
        )
        for delay in (0.0, 0.004, 0.01, 0.03, 0.1):
            write_tree(self.world.path("in"), {"a.zip": CONTENT})
            process = subprocess.Popen(
                [sys.executable, "-c", program, self.shelf.folder, self.source],
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
            )
            assert process.stdout
            process.stdout.readline()
            time.sleep(delay)
            process.send_signal(signal.SIGKILL)
            process.wait()
            process.stdout.close()
            digest = hash_bytes(CONTENT)
            on_shelf = os.path.exists(self.shelf.path_of(digest))
            self.assertTrue(on_shelf or os.path.exists(self.source))
            write_tree(self.world.path("in"), {"a.zip": CONTENT})
            entry = take(self.shelf, self.source).entry
            self.assertEqual(len(self.shelf.members(entry.digest)), 8)
            self.shelf.forget(entry.digest)

    def test_a_folder_always_gives_the_same_archive(self) -> None:
        files = {"b.dat": b"b", "a/c.dat": b"c" * 5000, "a/é.txt": b"e"}
        digests = set()
        for name in ("one", "two"):
            write_tree(
                self.world.path(name), dict(reversed(files.items())) if name == "two" else files
            )
            pack_folder(self.world.path(name), self.world.path(f"{name}.zip"))
            with open(self.world.path(f"{name}.zip"), "rb") as file:
                digests.add(hash_bytes(file.read()))
        self.assertEqual(len(digests), 1)
        entry = take(self.shelf, self.world.path("one.zip")).entry
        self.assertEqual({m.path for m in self.shelf.members(entry.digest)}, set(files))

    def test_an_index_of_before_is_brought_up_to_date(self) -> None:
        self.shelf.close()
        path = os.path.join(self.shelf.folder, "shelf.db")
        os.unlink(path)
        old = sqlite3.connect(path)
        old.executescript(f"{_SCHEMA} PRAGMA user_version = 1;")
        digest = hash_bytes(CONTENT)
        old.execute(
            "INSERT INTO archive VALUES (?, 3, NULL, 'a.zip', '2026-01-01', '[[\"x\", 1, \"y\", 0]]')",
            (digest,),
        )
        old.commit()
        old.close()
        write_tree(self.shelf.folder, {f"archives/{digest[:2]}/{digest}": CONTENT})
        with Shelf(self.shelf.folder) as shelf:
            [entry] = shelf.index.all()
            self.assertEqual((entry.form, entry.parts, entry.origin), ("zip", (), Origin()))
            self.assertEqual(shelf.members(digest)[0].path, "x")
            shelf.set_origin(digest, Origin(mod="m", version="1", urls=("http://a/b",)))
            [entry] = shelf.index.all()
            self.assertEqual(entry.origin.urls, ("http://a/b",))
        newer = sqlite3.connect(path)
        newer.execute("PRAGMA user_version = 99")
        newer.close()
        with self.assertRaisesRegex(ShelfFault, "newer Rellum"):
            Shelf(self.shelf.folder)


class LikenessTest(WorldTest):
    def members(self, *paths: str) -> list[Member]:
        return [
            Member(path=MemberPath(path), size=1, digest=Digest("0" * 64), executable=False)
            for path in paths
        ]

    def test_points(self) -> None:
        place = 'take = "Tides/**"\nto = "@mods/tides/"\nexpect = ["tides.dat"]'
        for version in ("3.2", "3.2.4"):
            self.world.add_release("tides", version, {"Tides/tides.dat": b"t"}, place=place)
        self.world.add_release("lamps", "1.0", {"l.dat": b"l"})
        catalog = load_catalog([self.world.path("catalog")], SheetId("fathomline"))
        shape = self.members("wrap/Tides/tides.dat")
        for name, members, best, points in (
            ("tides-3.2.zip", [], "tides@3.2", 65),
            ("tides_v3_2.zip", [], "tides@3.2", 45),
            ("Tides 3.2.4 final.zip", shape, "tides@3.2.4", 70),
            ("new.zip", shape, None, 0),
            ("lamps-1.0.zip", [], "lamps@1.0", 65),
            ("tidesque.zip", [], None, 0),
        ):
            found = likeliest(catalog, name, 7, members)
            first = found[0] if found else None
            self.assertEqual(
                (first and first.label, first.points if first else 0), (best, points), name
            )
        size = os.path.getsize(self.world.path("downloads", "lamps-1.0.zip"))
        [sure] = likeliest(catalog, "lamps-1.0.zip", size, [])
        self.assertEqual((sure.points, sure.certainty), (95, "very likely"))

    @settings(max_examples=60, deadline=None)
    @given(st.text(max_size=30), st.integers(0, 10**9))
    def test_any_name_is_answered(self, name, size) -> None:
        if not self.world.cards:
            self.world.add_release("tides", "3.2", {"Tides/tides.dat": b"t"})
        catalog = load_catalog([self.world.path("catalog")], SheetId("fathomline"))
        try:
            for each in likeliest(catalog, name, size, []):
                self.assertLess(each.points, 100)
        except UserError as error:
            self.fail(error.summary)


if __name__ == "__main__":
    unittest.main()
