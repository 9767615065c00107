"""What a game sheet says of laying files, and every mistake in it, by line."""

from __future__ import annotations

import unittest

from rellum.core.catalog.load import load_sheets
from rellum.core.catalog.tables import FileFaults
from rellum.core.values.ids import SheetId
from tests.support import WorldTest

GOOD = """
[names]
world = { of = "@game/worlds/*.world", with-ending = true }
[settings]
"@data/*.ini" = "merge"
[[container]]
file = "@data/*.pak"
drop = ["signs/*.sig"]
[load-order]
file = "@settings/order.json"
form = "json"
entries = ["@mods/*"]
key = ["load", "order"]
"""


class SheetsTest(WorldTest):
    def faults(self, more: str, places: str = "", game: str = "") -> str:
        self.world.change_sheet(more, places=places, game=game)
        with self.assertRaises(FileFaults) as caught:
            load_sheets([self.world.path("catalog")])
        return "\n".join(caught.exception.details)

    def test_all_that_can_be_said(self) -> None:
        place = 'settings = { linux = "{data}/x", windows = "{documents}/x" }'
        self.world.change_sheet(GOOD, places=place, game='carry = ["@settings/**"]')
        sheet = load_sheets([self.world.path("catalog")])[SheetId("fathomline")]
        self.assertEqual(
            sheet.outside, {"@settings": {"linux": "{data}/x", "windows": "{documents}/x"}}
        )
        self.assertEqual(sheet.places["settings"], "@settings")
        self.assertEqual(sheet.carry, ("@settings/**",))
        self.assertEqual(sheet.names["world"].pattern, "@game/worlds/*.world")
        self.assertEqual(sheet.containers[0].pattern, "@game/data/*.pak")
        self.assertEqual(sheet.settings, (("@game/data/*.ini", "merge"),))
        assert sheet.load_order
        self.assertEqual(
            (sheet.load_order.path, sheet.load_order.key),
            ("@settings/order.json", ("load", "order")),
        )

    def test_every_mistake_is_told(self) -> None:
        settings = 'settings = "{data}/x"'
        for old, new, words in (
            ('form = "json"', 'form = "yaml"', "'yaml' is neither lines, json nor ini"),
            ('key = ["load", "order"]', "", "'key' is missing"),
            ('entries = ["@mods/*"]', 'entries = ["@mods/*", "@data/*"]', "one pattern tells"),
            ("@mods/*", "@sounds/*", "does not begin with a place"),
            ("signs/*.sig", "../*.sig", "leaves its place"),
            ('= "merge"', '= "keep"', "'keep' is neither replace, merge nor leave"),
            ("with-ending = true", "ending = true", "unknown key"),
            ("world =", "World =", "'World' is not a valid name"),
        ):
            with self.subTest(new):
                self.assertRegex(
                    self.faults(GOOD.replace(old, new), settings), rf"toml:\d+: .*{words}"
                )
        self.assertIn(
            "does not begin with a folder of the user's", self.faults("", 'saves = "{desk}/x"')
        )


if __name__ == "__main__":
    unittest.main()
