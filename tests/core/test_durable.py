"""One durable write: the old content or the new, and nothing left behind."""

from __future__ import annotations

import os
import sys
import tempfile
import unittest
from unittest import mock

from rellum.core import durable


class DurableTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = folder.name
        self.path = os.path.join(self.folder, "file")

    def content(self) -> bytes:
        with open(self.path, "rb") as file:
            return file.read()

    def test_old_or_new(self) -> None:
        durable.write_durably(self.path, b"old")
        for name in ("os.fsync", "os.replace"):
            with mock.patch(name, side_effect=OSError(28, "full")), self.assertRaises(OSError):
                durable.write_durably(self.path, b"new")
            self.assertEqual(self.content(), b"old")
            self.assertEqual(os.listdir(self.folder), ["file"])
        durable.write_durably(self.path, b"new")
        self.assertEqual(self.content(), b"new")

    def test_flushes_before_it_renames(self) -> None:
        calls = []
        with (
            mock.patch("os.fsync", side_effect=lambda fd: calls.append("flush")),
            mock.patch("os.replace", side_effect=lambda a, b: calls.append("rename")),
        ):
            durable.write_durably(self.path, b"x")
        self.assertEqual(calls[:2], ["flush", "rename"])
        self.assertEqual(calls[2:], ["flush"] if os.name != "nt" else [])

    def test_few_files_one_by_one_and_many_at_once(self) -> None:
        names = [os.path.join(self.folder, str(number)) for number in range(100)]
        for name in names:
            with open(name, "wb"):
                pass
        with mock.patch("os.fsync") as fsync:
            durable.flush_filesystem(self.folder, names[:10], [self.folder])
            self.assertEqual(fsync.call_count, 11)
        if sys.platform == "linux":
            with mock.patch("os.fsync") as fsync:
                durable.flush_filesystem(self.folder, names, [self.folder])
                fsync.assert_not_called()
        with mock.patch.object(sys, "platform", "other"), mock.patch("os.fsync") as fsync:
            durable.flush_filesystem(self.folder, names, [self.folder])
            self.assertEqual(fsync.call_count, 101)


if __name__ == "__main__":
    unittest.main()
