"""Place paths: one canonical form, and nothing that leaves its place."""

from __future__ import annotations

import os
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.values.paths import (
    PlacePath,
    Roots,
    UnsafePath,
    parents,
    parse_member_path,
    parse_place_path,
    shown,
)

PLACES = {"mods": PlacePath("@game/mods")}


class PathsTest(unittest.TestCase):
    def test_canonical(self) -> None:
        for text in ("@mods/x.dat", "@game/mods/x.dat", "@mods/x.dat/"):
            self.assertEqual(parse_place_path(text, PLACES), "@game/mods/x.dat")
        self.assertEqual(parse_place_path("@mods/", PLACES), "@game/mods")
        self.assertEqual(shown("@game/mods/x.dat"), "mods/x.dat")
        self.assertEqual(list(parents(PlacePath("@game/a/b"))), ["@game/a", "@game"])

    def test_refused(self) -> None:
        for text in ("mods/x", "@saves/x", "@mods/../x", "@game//x", "@game/nul", ""):
            with self.assertRaises(UnsafePath, msg=text):
                parse_place_path(text, PLACES)

    @given(st.text(max_size=40))
    def test_whatever_is_let_through_stays_inside(self, text) -> None:
        try:
            path = parse_member_path(text)
        except UnsafePath:
            return
        self.assertFalse(os.path.isabs(path))
        inside = os.path.normpath(os.path.join("/games/place", path))
        self.assertTrue(inside.startswith("/games/place/"))

    def test_roots(self) -> None:
        roots = Roots("/games/f")
        self.assertEqual(roots.absolute(PlacePath("@game/a/b")), os.path.join("/games/f", "a", "b"))
        self.assertEqual(roots.place_path("/games/f/a"), "@game/a")
        self.assertIsNone(roots.place_path("/games/other"))


if __name__ == "__main__":
    unittest.main()
