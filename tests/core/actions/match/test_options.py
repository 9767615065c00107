"""Options: what is chosen decides what is laid and what is needed, and only the difference changes."""

from __future__ import annotations

import unittest
from unittest import mock

from rellum.core.actions.match.resolve import resolve
from rellum.core.actions.match.wants import want
from rellum.core.change.request import Request
from rellum.core.errors import NoAnswer
from tests.support import WorldTest, ignore_recovery

PLACES = """\
take = "core/**"
to = "@mods/tides/"
[[release.place]]
take = "low/**"
to = "@textures/"
options = { quality = "low" }
[[release.place]]
take = "high/**"
to = "@textures/"
options = { quality = "high" }
"""
GROUP = """
[[option]]
id = "quality"
{default}
  [[option.choice]]
  id = "low"
  [[option.choice]]
  id = "high"
"""


class OptionsTest(WorldTest):
    def make(self, default: str = 'default = "low"') -> None:
        sheet = self.world.path("catalog", "games", "fathomline.toml")
        with open(sheet, encoding="utf-8") as file:
            text = file.read().replace("[places]\n", '[places]\ntextures = "@game/textures"\n')
        with open(sheet, "w", encoding="utf-8") as file:
            file.write(text)
        members = {f"{q}/sea.tex": q.encode() for q in ("low", "high")}
        self.world.add_release("tides", "1.0", {**members, "core/t.dat": b"t"}, place=PLACES)
        card = self.world.path("catalog", "cards", "tides.toml")
        with open(card, "a", encoding="utf-8") as file:
            file.write(GROUP.format(default=default))
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides")

    def texture(self) -> bytes | None:
        return self.world.game()["textures/sea.tex"].content

    def choose(self, choice: str) -> None:
        want(
            Request(pack_folder=self.world.path("pack")), ["tides"], options={"quality": (choice,)}
        )

    def test_a_changed_choice_lays_only_the_difference(self) -> None:
        self.make()
        self.world.resolve()
        self.world.apply()
        self.assertEqual(self.texture(), b"low")
        self.choose("high")
        self.world.resolve()
        plan = self.world.apply().preview.plan
        self.assertEqual([each.path for each in plan.visible], ["@game/textures/sea.tex"])
        self.assertEqual(self.texture(), b"high")
        self.assertIn('quality = "high"', self.text("rellum.toml"))
        self.assertIn('options.quality = ["high"]', self.text("rellum.lock"))
        self.world.restore_all()
        self.assertNotIn("textures/sea.tex", self.world.game())

    def text(self, name: str) -> str:
        with open(self.world.path("pack", name), encoding="utf-8") as file:
            return file.read()

    def test_what_has_no_default_is_asked_once_and_remembered(self) -> None:
        self.make(default="")
        asked: list[str] = []

        def answer(mod, group):
            asked.append(f"{mod.id} {group.id}")
            return "high"

        pack, shelf = self.world.path("pack"), self.world.path("shelf")
        first = resolve(Request(pack_folder=pack, shelf_folder=shelf, on_recovered=ignore_recovery))
        self.assertEqual([(mod, group.id) for mod, group in first.unchosen], [("tides", "quality")])
        told = self.world.run("resolve").stdout
        self.assertIn("rellum want tides --option quality=low", told)
        for _ in range(2):
            result = resolve(
                Request(pack_folder=pack, shelf_folder=shelf, on_recovered=ignore_recovery),
                choose=answer,
            )
            self.assertEqual(result.unchosen, ())
        self.assertEqual(asked, ["tides quality"])
        self.world.apply()
        self.assertEqual(self.texture(), b"high")

    def test_an_archive_for_another_choice_is_not_needed(self) -> None:
        self.make()
        card = self.world.path("catalog", "cards", "tides.toml")
        with open(card, encoding="utf-8") as file:
            text = file.read()
        extra = (
            f'[[release.file]]\nname = "huge.zip"\nsha256 = "{"0" * 64}"\n'
            'options = { quality = "high" }\n'
        )
        with open(card, "w", encoding="utf-8") as file:
            file.write(text.replace("[[release.place]]", extra + "[[release.place]]", 1))
        self.assertEqual(self.world.resolve().missing_files, ())
        self.choose("high")
        [missing] = self.world.resolve().missing_files
        self.assertEqual(missing.file.name, "huge.zip")

    def test_options_that_are_not_there(self) -> None:
        self.make()
        card = self.world.path("catalog", "cards", "tides.toml")
        with open(card, encoding="utf-8") as file:
            text = file.read()
        with open(card, "w", encoding="utf-8") as file:
            file.write(
                text.replace('quality = "high" }', 'qualty = "high" }').replace('"low" }', '"lo" }')
            )
        told = self.world.run("vet").stdout
        self.assertIn("tides has no option 'qualty'; did you mean 'quality'?", told)
        self.assertIn("'lo' is not a choice of quality; did you mean 'low'?", told)

    def test_asking_on_a_terminal(self) -> None:
        from rellum.cli import console

        terminal = mock.Mock()
        terminal.isatty.return_value = True
        terminal.readline.side_effect = ["7\n", "\n", "2\n"]
        with mock.patch("sys.stdin", terminal), mock.patch("sys.stderr"):
            self.assertEqual(console.choose("which?", ["low", "high"]), "high")
        terminal.readline.side_effect = ["low\n"]
        with mock.patch("sys.stdin", terminal), mock.patch("sys.stderr"):
            self.assertEqual(console.choose("which?", ["low", "high"]), "low")
        terminal.readline.side_effect = [""]
        with mock.patch("sys.stdin", terminal), mock.patch("sys.stderr"):
            self.assertIsNone(console.choose("which?", ["low", "high"]))

    def test_a_choice_that_goes_only_with_an_expansion(self) -> None:
        self.make(default='default = "high"')
        card = self.world.path("catalog", "cards", "tides.toml")
        with open(card, encoding="utf-8") as file:
            text = file.read()
        for expansion, laid in (("ice-charts", b"high"), ("deep-trench", b"low")):
            said = f'id = "high"\n  expansions = {{ needs = ["{expansion}"] }}'
            with open(card, "w", encoding="utf-8") as file:
                file.write(text.replace('id = "high"', said))
            self.world.resolve(fresh=True)
            self.world.apply()
            self.assertEqual(self.texture(), laid, expansion)
        self.choose("high")
        with self.assertRaises(NoAnswer) as caught:
            self.world.resolve()
        shown = " ".join(caught.exception.details)
        self.assertIn("tides with high needs the expansion deep-trench", shown)


if __name__ == "__main__":
    unittest.main()
