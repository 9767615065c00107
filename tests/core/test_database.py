"""A bit that flips in a database: nothing is done by what it says, and one command makes it anew."""

from __future__ import annotations

import os
import random
import sqlite3
import unittest

from rellum.core.actions.gather.shelf import check as check_shelf
from rellum.core.actions.set_up.rebuild import rebuild
from rellum.core.change.request import Request
from rellum.core.database import SEAL, Seal
from rellum.core.pack.home import PackHome
from rellum.core.pack.lost_state import StateFault
from rellum.core.pack.open_state import open_state
from rellum.core.shelf.index import Index, IndexDamaged
from rellum.core.shelf.mend_index import mend_index
from rellum.core.shelf.store import Shelf
from tests.support import WorldTest, ignore_recovery, snapshot, without_marker

HARMLESS = range(24, 28)
"""Bytes of the header: SQLite's counter of changes. With another one nobody can know of damage."""


def read(path: str) -> bytes:
    with open(path, "rb") as file:
        return file.read()


def write(path: str, content: bytes) -> None:
    with open(path, "wb") as file:
        file.write(content)


class FlippedBitsTest(WorldTest):
    seed, places = 3, 12
    """``tools/fuzz_databases.py`` takes more places, seed after seed."""

    def setUp(self) -> None:
        super().setUp()
        self.vanilla = self.world.game()
        self.world.add_release("sonar", "1.0", {"data/a.pak": b"sonar", "mods/sonar/s": b"s"})
        self.world.add_release("lamps", "2.0", {"mods/lamps/l": b"lamp", "mods/lamps/m": b"more"})
        self.make_applied()
        self.dice = random.Random(self.seed)
        files = (
            self.world.path("shelf", "shelf.db"),
            self.world.path("pack", ".rellum", "state.db"),
        )
        self.seals = {path: read(path + SEAL) for path in files}

    def flip(self, path: str, whole: bytes) -> int:
        at = self.dice.choice([each for each in range(len(whole)) if each not in HARMLESS])
        content = bytearray(whole)
        content[at] ^= 1 << self.dice.randrange(8)
        write(path, bytes(content))
        write(path + SEAL, self.seals[path])
        return at

    def test_of_the_state(self) -> None:
        home = PackHome(self.world.path("pack"))
        whole, before = read(home.state_file), self.world.game()
        kept = snapshot(home.originals_folder)
        for _ in range(self.places):
            at = self.flip(home.state_file, whole)
            with self.subTest(at=at):
                for command in (self.world.check, self.world.apply, self.world.restore_all):
                    with self.assertRaisesRegex(StateFault, "is damaged"):
                        command()
                self.assertEqual(
                    (self.world.game(), snapshot(home.originals_folder)), (before, kept)
                )
        rebuild(
            Request(
                pack_folder=home.folder,
                shelf_folder=self.world.path("shelf"),
                on_recovered=ignore_recovery,
            ),
            self.world.path("game"),
        )
        self.assertEqual(self.world.check().findings, ())
        self.assertEqual(without_marker(self.world.game()), without_marker(before))
        self.world.restore_all()
        self.assertEqual(self.world.game(), self.vanilla)

    def test_of_the_index(self) -> None:
        shelf = self.world.path("shelf")
        file = os.path.join(shelf, "shelf.db")
        whole, archives = read(file), snapshot(os.path.join(shelf, "archives"))
        with Shelf(shelf) as opened:
            entries = {each.digest: opened.members(each.digest) for each in opened.index.all()}
        for _ in range(self.places):
            at = self.flip(file, whole)
            with self.subTest(at=at):
                with self.assertRaises(IndexDamaged):
                    self.world.apply()
                damaged = read(file)
                mended = mend_index(shelf)
                assert mended is not None
                self.assertEqual(read(mended.damaged), damaged)
                self.assertEqual((mended.files, mended.left_out), (2, ()))
                with Shelf(shelf) as opened:
                    now = {each.digest: opened.members(each.digest) for each in opened.index.all()}
                    self.assertEqual(check_shelf(opened), (2, ()))
                self.assertEqual(
                    (now, snapshot(os.path.join(shelf, "archives"))), (entries, archives)
                )
                self.assertIsNone(mend_index(shelf))
        before = self.world.game()
        self.world.apply()
        self.assertEqual(self.world.game(), before)


class SealTest(WorldTest):
    """What is no damage is not taken for it."""

    def setUp(self) -> None:
        super().setUp()
        self.world.adopt()
        self.home = PackHome(self.world.path("pack"))

    def test_a_writer_that_was_killed_before_it_sealed(self) -> None:
        database = sqlite3.connect(self.home.state_file)
        with database:
            database.execute("INSERT OR REPLACE INTO note VALUES ('seen', 'yes')")
        database.close()
        self.assertEqual(self.world.check().findings, ())
        state = open_state(self.home)
        self.assertEqual(state.note("seen"), "yes")
        state.close()
        self.assertFalse(Seal(self.home.state_file).is_broken())

    def test_a_seal_that_is_damaged_itself_or_torn(self) -> None:
        seal = self.home.state_file + SEAL
        whole = read(seal)
        for content in (b"", whole[:40], b"\0" * 90, bytes([whole[0] ^ 1]) + whole[1:]):
            write(seal, content)
            self.assertEqual(self.world.check().findings, ())
            self.assertEqual(len(read(seal)), len(whole))

    def test_two_that_use_the_shelf_at_once(self) -> None:
        shelf = self.world.path("shelf")
        one, two = Index(shelf), Index(shelf)
        one.add_pack("/one")
        two.add_pack("/two")
        one.close()
        two.close()
        with Shelf(shelf) as opened:
            self.assertLessEqual({"/one", "/two"}, set(opened.index.packs()))

    def test_the_seal_is_kept_while_nothing_is_written(self) -> None:
        seal = self.home.state_file + SEAL
        self.world.check()
        before = os.stat(seal).st_mtime_ns
        self.world.check()
        self.assertEqual(os.stat(seal).st_mtime_ns, before)


if __name__ == "__main__":
    unittest.main()
