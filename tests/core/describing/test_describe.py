"""First cards: what names and content tell, and that a filled-in card loads and lays."""

from __future__ import annotations

import json
import os
import tomllib
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.describing.naming import guess_naming
from rellum.core.describing.shape import Game, guess_shape
from rellum.core.values.paths import PlacePath
from tests.support import WorldTest, write_tree, zip_bytes

PLACES = {name: PlacePath(f"@game/{name}") for name in ("mods", "data", "textures")}
VANILLA = [
    PlacePath(f"@game/{path}")
    for path in ("data/sea.dat", "data/wind.dat", "textures/water.tex", "textures/old/sky.tex")
]


def rules(*paths: str) -> list[tuple[str, str]]:
    shape = guess_shape(paths, Game(VANILLA, PLACES), "tides")
    return [(rule.take, rule.to) for rule in shape.rules]


class NamingTest(unittest.TestCase):
    def test_from_names(self) -> None:
        for archive, wrapper, expected in (
            ("tidal_currents_3_2_full.zip", "", ("tidal-currents", "3.2")),
            ("LongSwell-1.0.7z", "", ("long-swell", "1.0")),
            ("signalflags_v5.1b1.zip.001", "", ("signalflags", "5.1b1")),
            ("Deep Lamps (2.0.1).tar.gz", "", ("deep-lamps", "2.0.1")),
            ("download.zip", "Harbour-Bells-2.1", ("download", "2.1")),
            ("brasswork.zip", "", ("brasswork", "")),
        ):
            naming = guess_naming(archive, wrapper, {})
            self.assertEqual((naming.id.value, naming.version.value), expected, archive)

    def test_from_within(self) -> None:
        for path, text in (
            ("about.ini", "[mod]\nid = tides\nversion = 4.1\n"),
            ("mod.json", '{"mod": {"id": "tides", "version": "4.1"}}'),
            ("mod.toml", 'id = "tides"\nversion = "4.1"\n'),
            ("readme.txt", "Tides\n\nVersion 4.1, all new\nid: tides"),
        ):
            naming = guess_naming("x-1.0.zip", "", {path: text})
            self.assertEqual((naming.id.value, naming.version.value), ("tides", "4.1"), path)
        self.assertTrue(guess_naming("tides_4_1_patch.zip", "", {}).is_patch)

    @settings(max_examples=200, deadline=None)
    @given(st.text(max_size=40), st.text(max_size=20), st.text(max_size=200))
    def test_any_names_and_texts_are_read(self, archive, wrapper, text) -> None:
        for path in ("about.ini", "mod.json", "mod.toml"):
            naming = guess_naming(archive, wrapper, {path: text})
            self.assertRegex(naming.id.value, r"^[a-z0-9-]*$")


class ShapeTest(unittest.TestCase):
    def test_where_content_fits(self) -> None:
        self.assertEqual(rules("w/data/sea.dat", "w/mods/x/a"), [("**", "@game/")])
        self.assertEqual(rules("Replace/sea.dat", "Replace/wind.dat"), [("**", "@data/")])
        self.assertEqual(rules("pack/old/sky.tex"), [("**", "@textures/old/")])
        self.assertEqual(
            rules("a/Core/x.dat", "a/Replace/sea.dat"),
            [("Core/**", "@mods/tides/"), ("Replace/**", "@data/")],
        )
        self.assertEqual(rules("a/b/c/main.dat"), [("**", "@mods/tides/")])
        self.assertEqual(rules("a/mod/x.dat", "a/textures/new.tex"), [
            ("mod/**", "@mods/tides/"), ("textures/**", "@textures/"),
        ])  # fmt: skip

    def test_alternatives_and_what_is_left_out(self) -> None:
        paths = [f"Quality/{q}/textures/{n}.tex" for q in ("low", "high") for n in ("water", "bed")]
        shape = guess_shape([*paths, "readme.txt", "Core/a.dat"], Game(VANILLA, PLACES), "x")
        [found] = shape.alternatives
        self.assertEqual((found.above, found.names), ("Quality/", ("high", "low")))
        self.assertEqual(shape.left_out, ("readme.txt",))
        self.assertEqual(
            [(r.take, r.choice) for r in shape.rules],
            [
                ("Core/**", None),
                ("Quality/high/**", ("variant", "high")),
                ("Quality/low/**", ("variant", "low")),
            ],
        )
        self.assertEqual(shape.rules[1].replaces, ("@game/textures/water.tex",))


class DescribeTest(WorldTest):
    def test_a_filled_in_card_loads_and_lays(self) -> None:
        self.world.add_release("other", "1", {"mods/o": b"o"})
        self.world.adopt()
        members = {
            "TidalMod-2.5/readme.md": b"read me",
            "TidalMod-2.5/Tides/about.ini": b"[mod]\nid = tides\nname = The Tides\nversion = 2.5\n",
            "TidalMod-2.5/Tides/tides.dat": b"in and out",
            "TidalMod-2.5/Replace/calm/sea.dat": b"another sea",
            "TidalMod-2.5/Replace/rough/sea.dat": b"a rough sea",
        }
        write_tree(self.world.path("in"), {"TidalMod-2.5.zip": zip_bytes(members)})
        result = self.world.run("describe", "../in/TidalMod-2.5.zip", "--to", "tides.toml")
        self.assertEqual(result.returncode, 0, result.stderr)
        again = self.world.run("describe", "../in/TidalMod-2.5.zip", "--to", "tides.toml")
        self.assertIn("is there already", again.stderr)
        with open(self.world.path("pack", "tides.toml"), encoding="utf-8") as file:
            text = file.read()
        self.assertLessEqual(max(map(len, text.splitlines())), 110)
        card = tomllib.loads(text)
        self.assertEqual((card["mod"]["id"], card["mod"]["name"]), ("tides", "The Tides"))
        write_tree(self.world.path("catalog", "cards"), {"tides.toml": text.encode()})
        vetted = self.world.run("vet")
        line = next(n for n, each in enumerate(text.splitlines(), 1) if "FILL IN:" in each)
        self.assertIn(f"tides.toml:{line}: FILL IN", vetted.stdout)
        refused = self.world.run("take", "../in/TidalMod-2.5.zip")
        self.assertIn(
            f"not finished in its card: ../catalog/cards/tides.toml:{line}", refused.stderr
        )
        text = text.replace("FILL IN: ", "")
        write_tree(self.world.path("catalog", "cards"), {"tides.toml": text.encode()})
        vetted = self.world.run("vet")
        self.assertEqual((vetted.returncode, vetted.stderr), (0, ""), vetted.stdout)
        self.world.run("take", "../in/TidalMod-2.5.zip")
        self.world.want("tides")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"another sea")
        self.assertEqual(self.world.game()["mods/tides/tides.dat"].content, b"in and out")
        self.world.run("want", "tides", "--option", "variant=rough")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"a rough sea")
        known = self.world.run("describe", "../in/TidalMod-2.5.zip")
        self.assertIn("it is tides 2.5.", known.stdout)

    @unittest.skipIf(os.name == "nt", "no such names there")
    def test_whatever_the_names_are_the_card_can_be_read(self) -> None:
        self.world.adopt()
        inside = ("mods/t/a.dat", "mods/t/a[1].dat")
        for name, members in (
            ("[Tides] Mod 1.0", [f"[Tides] Mod/{each}" for each in inside]),
            ('q"uote \\ 1.0', inside),
            ("new\n[mod]\nid = 'x' 1.0", inside),
            ("del\x7f\x85 2.0", inside),
            (os.fsdecode(b"caf\xe9 1.0"), inside),
            ("opt 1.0", [f"opt/[{each}] x/data/sea.dat" for each in "ab"]),
            ("turned \u202e 1.0", ["turned/\u202e/mods/a"]),
        ):
            with self.subTest(name=name):
                archive = os.path.join(self.world.path("downloads"), f"{name}.zip")
                with open(archive, "wb") as file:
                    file.write(zip_bytes({each: each.encode() for each in members}))
                text = self.world.run("describe", archive).stdout
                card = tomllib.loads(text)
                self.assertEqual(len(card["release"]), 1)
                self.assertRegex(card["mod"]["id"], "^[a-z-]+$")
                path = self.world.path("catalog", "cards", f"{card['mod']['id']}.toml")
                with open(path, "w", encoding="utf-8") as file:
                    file.write(text)
                self.assertEqual(self.world.run("vet").returncode, 0)
                self.assertEqual(self.world.run("take", archive).returncode, 0)
                self.world.want(card["mod"]["id"])
                self.world.resolve(fresh=True)
                self.assertEqual(self.world.run("apply", "--yes").returncode, 0)
                self.world.drop(card["mod"]["id"])
                os.unlink(path)

    def test_folders_parts_and_what_is_none(self) -> None:
        self.world.add_release("other", "1", {"mods/o": b"o"})
        self.world.adopt()
        content = zip_bytes({"mods/big.dat": os.urandom(5000)})
        write_tree(self.world.path("in"), {
            "big-1.2.zip.001": content[:3000], "big-1.2.zip.002": content[3000:],
            "folder-3/data/sea.dat": b"x", "words.txt": b"words",
        })  # fmt: skip
        told = json.loads(
            self.world.run(
                "describe", "--json", "../in/big-1.2.zip.002", "../in/big-1.2.zip.001"
            ).stdout
        )
        self.assertEqual([f["file"][-3:] for f in told["files"]], ["001", "002"])
        self.assertEqual((told["id"], told["version"]), ("big", "1.2"))
        told = json.loads(self.world.run("describe", "--json", "../in/folder-3").stdout)
        self.assertEqual(told["places"][0]["to"], "@game/")
        for words, said in (
            (["../in/big-1.2.zip.002"], "missing: big-1.2.zip.001"),
            (["../in/words.txt"], "not an archive that Rellum can read"),
            (["../in/none"], "not found"),
            (["../in/words.txt", "../in/big-1.2.zip.001"], "not parts of the same archive"),
        ):
            result = self.world.run("describe", *words)
            self.assertEqual(result.returncode, 2)
            self.assertIn(said, result.stderr)


if __name__ == "__main__":
    unittest.main()
