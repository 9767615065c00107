"""The shelf: what enters is whole, what is wrong leaves no trace, and archives are known by hash."""

from __future__ import annotations

import hashlib
import os
import shutil
import unittest
from unittest import mock

from rellum.core.archives.model import ArchiveFault
from rellum.core.catalog.release_rules import ReleaseFile
from rellum.core.shelf.index import ShelfFault
from rellum.core.shelf.store import Shelf
from rellum.core.shelf.take_in import take
from tests.support import WorldTest, write_tree, zip_bytes

CONTENT = zip_bytes({"a": b"a" * 3000, "b": b"b"})


class ShelfTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.shelf = Shelf(self.world.path("shelf"))
        self.addCleanup(self.shelf.close)
        write_tree(self.world.path("in"), {"a.zip": CONTENT})
        self.source = self.world.path("in", "a.zip")

    def file(self, **known) -> ReleaseFile:
        return ReleaseFile(name="a.zip", **known)

    def test_take_and_find(self) -> None:
        took = take(self.shelf, self.source)
        entry = took.entry
        self.assertTrue(took.is_new)
        self.assertFalse(take(self.shelf, self.source).is_new)
        self.assertIsNone(entry.sha256)
        sha256 = hashlib.sha256(CONTENT).hexdigest()
        known = self.shelf.find(self.file(blake3=entry.digest))
        self.assertEqual(known and known.digest, entry.digest)
        # A SHA-256 that is asked for later is learnt then, once.
        found = self.shelf.find(self.file(sha256=sha256, size=len(CONTENT)))
        assert found
        self.assertEqual((found.digest, found.sha256), (entry.digest, sha256))
        self.assertIsNone(self.shelf.find(self.file(sha256="0" * 64)))
        self.assertEqual([m.path for m in self.shelf.members(entry.digest)], ["a", "b"])
        os.unlink(self.shelf.path_of(entry.digest))
        self.assertIsNone(self.shelf.find(self.file(blake3=entry.digest)))

    def test_what_fails_leaves_nothing(self) -> None:
        damaged = bytearray(CONTENT)
        damaged[45] ^= 255
        write_tree(self.world.path("in"), {"bad.zip": bytes(damaged)})
        with self.assertRaisesRegex(ArchiveFault, "in/bad.zip: the member"):
            take(self.shelf, self.world.path("in", "bad.zip"))
        full = mock.patch("os.fsync", side_effect=OSError(28, "No space left on device"))
        with full, self.assertRaisesRegex(ShelfFault, "No space left"):
            take(self.shelf, self.source)
        usage = shutil.disk_usage(self.world.root)._replace(free=3)
        nearly = mock.patch("shutil.disk_usage", return_value=usage)
        with nearly, self.assertRaisesRegex(ShelfFault, "bytes free"):
            take(self.shelf, self.source)
        left = [name for _, _, names in os.walk(self.shelf.folder) for name in names]
        self.assertEqual(left, ["shelf.db"])

    def test_a_shelf_that_cannot_be(self) -> None:
        with self.assertRaises(ShelfFault):
            Shelf(self.source)


if __name__ == "__main__":
    unittest.main()
