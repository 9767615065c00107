"""Telling game, version, edition and expansions by a sheet's rules."""

from __future__ import annotations

import unittest

from rellum.core.catalog.load import load_sheets
from rellum.core.catalog.tables import FileFaults
from rellum.core.folder.detection import UnknownGame, find_sheet, identify
from rellum.core.hashing import hash_bytes
from rellum.core.values.ids import SheetId
from rellum.core.values.paths import Roots
from tests.support import SHEET, WorldTest, write_tree

BY_HASH = f"""\
[game]
id = "other"
name = "Other"
marks = ["@game/other.bin"]

[[version]]
file = "@game/other.bin"
blake3 = "{hash_bytes(b"release two")}"
is = "2.0"

[[version]]
file = "@game/other.bin"
sha256 = "e0b1ef8f08c4ab2bdfb0ab6bb10d3f7e6b4a2ddf3ea1a9ff65ac0ee56dfd3fcb"
is = "1.0"

[[version]]
file = "@game/old.txt"
is = "0.9"
"""


class IdentifyTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.roots = Roots(self.world.path("game"))

    def sheets(self):
        return load_sheets([self.world.path("catalog")])

    def test_version_edition_and_expansions(self) -> None:
        sheet = find_sheet(self.sheets().values(), self.roots)
        assert sheet
        found = identify(sheet, self.roots)
        self.assertEqual(
            (found.sheet, str(found.version), found.edition, found.expansions),
            ("fathomline", "1.6.0", "boxed", ("ice-charts",)),
        )
        self.assertRegex(found.evidence[0], r"1\.6\.0: the text of version\.txt \(.*:11\)$")
        self.assertRegex(
            found.evidence[2], r"expansion ice-charts: there is expansions/ice\.dat \("
        )

    def test_by_hash_and_by_presence_in_order(self) -> None:
        write_tree(self.world.path("catalog"), {"games/other.toml": BY_HASH.encode()})
        sheet = self.sheets()[SheetId("other")]
        self.world.write_game("other.bin", b"release two")
        self.assertEqual(str(identify(sheet, self.roots).version), "2.0")
        self.world.write_game("old.txt", b"")
        self.assertEqual(str(identify(sheet, self.roots).version), "2.0")
        self.world.write_game("other.bin", b"patched by hand")
        found = identify(sheet, self.roots)
        self.assertEqual((str(found.version), found.edition), ("0.9", None))

    def test_what_cannot_be_told(self) -> None:
        write_tree(self.world.path("catalog"), {"games/other.toml": BY_HASH.encode()})
        sheets = self.sheets()
        self.world.write_game("other.bin", b"?")
        with self.assertRaisesRegex(UnknownGame, "fits several game sheets: fathomline, other"):
            find_sheet(sheets.values(), self.roots)
        with self.assertRaisesRegex(UnknownGame, "cannot tell the version of Other") as caught:
            identify(sheets[SheetId("other")], self.roots)
        self.assertEqual(len(caught.exception.details), 3)
        self.world.write_game("version.txt", b"version: ...\n")
        with self.assertRaisesRegex(
            UnknownGame, "says that its version is '...', which is not a version"
        ):
            identify(sheets[SheetId("fathomline")], self.roots)
        self.assertIsNone(find_sheet(sheets.values(), Roots(self.world.path("downloads"))))

    def test_faults_of_a_sheet(self) -> None:
        faulty = SHEET.replace('id = "fathomline"', 'id = "Fathom Line"')
        faulty = faulty.replace("(?P<version>[0-9.]+)", "(?P<version>[0-9.+")
        faulty = faulty.replace('mods = "@game/mods"', 'mods = "game/mods"')
        faulty = faulty.replace('file = "@game/expansions', 'fiel = "@game/expansions')
        write_tree(self.world.path("catalog"), {"games/fathomline.toml": faulty.encode()})
        with self.assertRaises(FileFaults) as caught:
            self.sheets()
        keys = [line.split(".toml:")[1].split(": ")[:2] for line in caught.exception.details]
        self.assertEqual(
            [" ".join(key)[:24] for key in keys],
            ["2 game.id", "8 places.mods", "13 pattern", "20 expansion", "22 fiel"],
        )
        self.assertIn("did you mean 'file'", caught.exception.details[-1])


if __name__ == "__main__":
    unittest.main()
