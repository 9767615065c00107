"""Numbers of any length, from files of strangers: one clear error, at once, and never a traceback."""

from __future__ import annotations

import os
import tempfile
import unittest

from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.tables import Fault, TableReader, parse_toml
from rellum.core.errors import UserError
from rellum.core.fetching.metalink import NAMESPACE, read_metalink
from rellum.core.patching.json_patch import merge_json, patch_json
from rellum.core.patching.unified import read_diff

LONG = b"9" * 6000  # more digits than Python turns into a number


class LongNumbersTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = os.path.join(folder.name, "file")

    def write(self, content: bytes) -> str:
        with open(self.path, "wb") as file:
            file.write(content)
        return self.path

    def test_in_patches(self) -> None:
        for make in (
            lambda: read_diff(b"--- a\n+++ b\n@@ -%b,1 +1,1 @@\n-a\n+b\n" % LONG, "d"),
            lambda: patch_json(b'{"a": %b}' % LONG, b"[]", "p"),
            lambda: patch_json(b'{"a": [1]}', b'[{"op": "remove", "path": "/a/%b"}]' % LONG, "p"),
            lambda: merge_json(b'{"a": 1}', b'{"b": %b}' % LONG, "p"),
        ):
            with self.assertRaises(UserError):
                make()

    def test_in_cards(self) -> None:
        table, fault = parse_toml(self.write(b"a = " + LONG))
        self.assertEqual((table, ":1: " in fault), (None, True))
        table, fault = parse_toml(self.write(b"size = 0x" + b"f" * 6000))
        assert table
        faults: list[Fault] = []
        self.assertIsNone(TableReader(table, Source(self.path), faults).integer("size", 5))
        self.assertIn("too large", faults[0].message)

    def test_in_lists_of_downloads(self) -> None:
        text = (
            b'<metalink xmlns="%b"><file name="a"><size>%b</size><hash type="sha-256">%b</hash>'
            b'<url>http://[::1/b</url><url priority="%b">http://a/c</url></file></metalink>'
        ) % (NAMESPACE.encode(), LONG, b"a" * 64, LONG)
        [listed] = read_metalink(self.write(text))
        self.assertEqual((listed.size, listed.urls), (None, ("http://a/c",)))
        with self.assertRaises(UserError):
            read_metalink(self.write(b'<?xml version="1.0" encoding="klingon"?><metalink/>'))


if __name__ == "__main__":
    unittest.main()
