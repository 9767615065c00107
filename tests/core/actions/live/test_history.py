"""History and space: what changed when, what takes space, and what freeing some costs."""

from __future__ import annotations

import json
import os

from rellum.core.pack.arrivals import releases_in
from tests.support import WorldTest, write_tree


class HistoryTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.change_sheet(places='saves = "@game/saves"')
        for version in ("1.0", "2.0"):
            self.world.add_release("tides", version, {f"mods/tides/{version}": b"t" * 500})
        self.world.add_release("winds", "1.0", {"mods/winds/w": b"w" * 100})
        self.world.adopt()
        self.world.take_all()

    def say(self, *words: str, status: int = 0) -> str:
        done = self.world.run(*words)
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        return done.stdout

    def changes(self, *words: str) -> list[list[tuple[str, str | None, str | None]]]:
        found = json.loads(self.say("history", "--json", *words))["changes"]
        return [
            [(one["mod"], one["version_before"], one["version"]) for one in each["releases"]]
            for each in found
        ]

    def build(self) -> None:
        self.world.want("tides", "<2")
        self.world.want("winds")
        self.world.apply()
        self.world.want("tides", ">=2")
        self.world.apply()
        self.world.drop("winds")
        self.world.apply()

    def test_what_came_went_and_moved(self) -> None:
        self.build()
        came = [("tides", None, "1.0"), ("winds", None, "1.0")]
        expected = [[("winds", "1.0", None)], [("tides", "1.0", "2.0")], came]
        self.assertEqual(self.changes()[:3], expected)
        self.assertEqual(len(self.changes("winds")), 2)
        self.assertEqual(self.changes("--since", "2999-01-01"), [])
        self.world.rewind()
        self.assertEqual(self.changes()[0], [("winds", None, "1.0")])
        told = self.say("history")
        self.assertIn("would undo 'rewind'", told)
        self.say("history", "--since", "yesterday", status=2)

    def test_of_a_pack_without_any_change(self) -> None:
        self.assertIn("Nothing has become of winds", self.say("history", "winds"))

    def test_a_line_up_is_read_without_a_parser(self) -> None:
        text = '[[release]]\nmod = "a"\nversion = "1 \\"b\\""\nbuild = "x"\noptions.q = ["high"]\n'
        text += (
            '\n  [[release.file]]\n  name = "mod = 3"\n\n[[release]]\nmod = "b"\nversion = "2"\n'
        )
        self.assertEqual(releases_in(text), {"a": ('1 "b" (x)', "q = high"), "b": ("2", "")})

    def test_space_adds_up(self) -> None:
        self.build()
        write_tree(self.world.path("game"), {"saves/a.sav": b"s" * 300})
        self.say("backup")
        found = json.loads(self.say("space", "--json"))
        uses = {each["name"]: each["bytes"] for each in found["uses"]}
        self.assertEqual(uses["mods"], 500)
        self.assertEqual(found["mods"], [{"mod": "tides", "file_count": 1, "bytes": 500}])
        self.assertGreaterEqual(uses["checkpoints"], 600)
        self.assertEqual(found["bytes"], sum(uses.values()))
        vanilla = sum(
            len(each.content or b"")
            for name, each in self.world.game().items()
            if not name.startswith(("mods/", "saves/", ".rellum"))
        )
        self.assertEqual(uses["the game"], vanilla)

    def test_the_cheapest_goes_first_and_nothing_that_is_needed(self) -> None:
        self.build()
        for number in range(8):
            write_tree(self.world.path("game"), {"saves/a.sav": str(number).encode() * 400})
            self.say("backup")
        ways = json.loads(self.say("space", "--json"))["ways_to_free"]
        self.assertEqual([each["name"] for each in ways][:1], ["3 old backups"])
        before = ways[0]["bytes"]
        told = json.loads(self.say("space", "--free", "1kB", "--yes", "--json"))
        self.assertEqual(
            (told["freed_bytes"], told["done"], told["is_enough"]), (before, True, True)
        )
        self.assertEqual(len(json.loads(self.say("backup", "list", "--json"))["backups"]), 5)
        self.assertEqual(self.world.run("space", "--free", "1TB", "--yes").returncode, 1)
        self.world.apply()
        self.say("check")
        self.say("restore", "--all", "--yes")
        self.assertFalse(os.path.exists(self.world.path("game", "mods", "tides")))


class ReportTest(WorldTest):
    def test_hostile_names_stay_text(self) -> None:
        evil = "<script>alert(1)</script>"
        self.world.add_release("tides", "1.0", {"mods/<b>.txt".replace("<b>", "b"): b"x"},
                               says=f'check-by-hand = ["{evil}"]')  # fmt: skip
        card = self.world.path("catalog", "cards", "tides.toml")
        with open(card, encoding="utf-8") as file:
            text = file.read().replace(
                'name = "Tides"', f'name = "{evil}"\nlicence = "\\" onload=\\"x"'
            )
        text = text.replace("[[release.place]]", 'page = "javascript:alert(1)"\n[[release.place]]')
        write_tree(self.world.path("catalog", "cards"), {"tides.toml": text.encode()})
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides")
        self.world.apply()
        page = self.world.path("health.html")
        done = self.world.run("report", page)
        self.assertEqual(done.returncode, 0, done.stderr)
        with open(page, encoding="utf-8") as file:
            text = file.read()
        for words in ("<script", "javascript:", ' onload="', "http://", "src="):
            self.assertNotIn(words, text.lower())
        self.assertIn("&lt;script&gt;", text)
        self.assertIn("<h2>Line-up</h2>", text)
        self.assertEqual(self.world.run("report", "page.txt").returncode, 2)

    def test_a_pack_without_mods(self) -> None:
        self.world.adopt()
        page = self.world.path("health.html")
        self.assertEqual(self.world.run("report", page).returncode, 0)
        with open(page, encoding="utf-8") as file:
            self.assertIn("this is vanilla", file.read())
