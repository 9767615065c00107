"""Reading a catalog: what it holds, and every mistake at once with its line."""

from __future__ import annotations

import os
import unittest

from rellum.core.catalog.load import (
    NoCatalog,
    UnknownMod,
    find_mod,
    load_catalog,
    read_catalog,
)
from rellum.core.catalog.tables import FileFaults
from rellum.core.errors import RellumError
from rellum.core.notices import take_all
from rellum.core.values.ids import SheetId
from rellum.core.values.paths import shown_file
from tests.support import WorldTest

HASH = "0" * 64

FAULTY = f"""\
[mod]
id = "Brass Work"
name = "Brasswork"
kind = "gadget"

[[release]]
version = "1.0"
game = ">=1.5 <"
gmae = "1.6"
needs = {{ keelson = "2 to 3" }}
[[release.file]]
name = "a.zip"
size = -4

[[release]]
version = "1.0.0"
patches = "0.5"
editions = ["boxed", 7]
[[release.file]]
name = "b.zip"
sha256 = "{HASH}"
[[release.place]]
to = "@nowhere/x"
expect = ["../up"]
"""


class LoadTest(WorldTest):
    def load(self):
        return load_catalog([self.world.path("catalog")], SheetId("fathomline"))

    def write_card(self, text: str, name: str = "brasswork") -> None:
        path = self.world.path("catalog", "cards", f"{name}.toml")
        with open(path, "w", encoding="utf-8") as file:
            file.write(text)

    def faults(self) -> list[str]:
        faults: list[str] = []
        read_catalog([self.world.path("catalog")], SheetId("fathomline"), faults)
        cards = shown_file(self.world.path("catalog", "cards")) + os.sep
        return [detail.removeprefix(cards) for detail in faults]

    def test_every_mistake_at_once(self) -> None:
        self.write_card(FAULTY)
        self.assertEqual(
            [line.split(": ")[:2] for line in self.faults()],
            [
                ["brasswork.toml:2", "mod.id"],
                ["brasswork.toml:4", "mod.kind"],
                ["brasswork.toml:8", "game"],
                ["brasswork.toml:9", "gmae"],
                ["brasswork.toml:10", "needs.keelson"],
                ["brasswork.toml:13", "file.size"],
                ["brasswork.toml:16", "version"],
                ["brasswork.toml:17", "patches"],
                ["brasswork.toml:18", "editions"],
                ["brasswork.toml:23", "place.to"],
                ["brasswork.toml:24", "place.expect"],
            ],
        )

    def test_says_what_would_be_right(self) -> None:
        self.write_card(FAULTY)
        faults = "\n".join(self.faults())
        self.assertIn("game: '>=1.5 <' is not a range; write e.g. '>=1.5, <1.7'", faults)
        self.assertIn("did you mean 'game'", faults)

    def test_syntax_error_has_line_and_caret(self) -> None:
        self.write_card('[mod]\nid = "a\n')
        [fault] = self.faults()
        self.assertRegex(fault, r"^brasswork\.toml:2: .*\n {4}id = \"a\n {4} +\^$")

    def test_garbage(self) -> None:
        for content in (b"\xff\xfe", b"\0" * 100, b"x" * (5 << 20), b"a = " + b"[" * 100_000):
            with open(self.world.path("catalog", "cards", "bad.toml"), "wb") as file:
                file.write(content)
            self.assertEqual(len(self.faults()), 1)

    def test_an_id_twice(self) -> None:
        self.world.add_release("tides", "1", {"a": b"a"})
        with open(self.world.path("catalog", "cards", "tides.toml"), encoding="utf-8") as file:
            self.write_card(file.read(), "waves")
        [fault] = self.faults()
        self.assertRegex(fault, r"^waves\.toml:2: mod\.id: 'tides' is taken already, at .*:2$|:2$")

    def test_a_patch_inherits_what_it_does_not_say(self) -> None:
        self.world.add_release(
            "tides", "1", {"a": b"a"}, says='game = "<2"\nneeds = {keelson = "3"}'
        )
        self.world.add_release("tides", "1.1", {"a": b"b"}, says='patches = "1"\ngame = "<3"')
        newest, full = self.load().mods["tides"].releases
        self.assertEqual((newest.version.text, str(newest.game)), ("1.1", "<3"))
        self.assertEqual(newest.needs, full.needs)

    def test_a_faulty_card_takes_nothing_else_away(self) -> None:
        self.world.add_release("tides", "1", {"a": b"a"})
        self.write_card(FAULTY, "waves")
        take_all()
        catalog = self.load()
        self.assertEqual(list(catalog.mods), ["tides"])
        [noted] = take_all()
        self.assertIn("1 file of the catalog, which was left out: 'rellum vet'", noted.text)
        with self.assertRaisesRegex(FileFaults, "11 mistakes"):
            find_mod(catalog, "Brass Work")

    def test_missing(self) -> None:
        self.assertEqual(dict(self.load().mods), {})  # a catalog without cards is one
        self.world.add_release("tides", "1", {"a": b"a"})
        with self.assertRaisesRegex(RellumError, "did you mean 'tides'"):
            find_mod(self.load(), "tide")
        with self.assertRaises(UnknownMod):
            find_mod(self.load(), "qqq")
        with self.assertRaisesRegex(NoCatalog, "is not there"):
            load_catalog([self.world.path("none")], SheetId("fathomline"))


if __name__ == "__main__":
    unittest.main()
