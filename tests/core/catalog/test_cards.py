"""What a card can say, read from its text."""

from __future__ import annotations

import tomllib
import unittest

from rellum.core.catalog.cards import find_ordering, read_card
from rellum.core.catalog.model import Mod, Release
from rellum.core.catalog.patches import release_chain
from rellum.core.catalog.tables import Fault
from rellum.core.values.paths import PlacePath

CARD = """
[mod]
id = "tides"
name = "Tides"
[[release]]
version = "1.0"
game = ">=1.5, <1.7"
needs = { keel = ">=2", lamp = "*" }
needs-one-of = [{ rope = ">=1", chain = "*" }]
clashes = { fog = "*", calm = { range = "<2", reason = "both still the sea", only-itself = true } }
offers = { old-tides = "2.4" }
made-for = { hull = ["wide", "paint.matt"] }
check-by-hand = ["a driver from 2023"]
expansions = { needs = ["ice"], forbids = ["deep"], shows-more-with = ["far"] }
load = { after = ["swell"], before = ["foam"], at = "last" }
[[release]]
version = "1.0.1"
patches = "1.0"
needs = { keel = ">=2.1" }
[[release]]
version = "1.0.2"
patches = "1.0.1"
withdrawn = "eats saves"
clashes = {}
[[release]]
version = "2.0"
game = ">=1.6 | 1.4"
editions = ["boxed", "harbour"]
needs = { keel = "3.0+7" }
  [[release.file]]
  name = "common.zip"
  sha256 = "{0}"
  [[release.build]]
  name = "old"
  game = "<1.7"
  editions = ["harbour", "other"]
  needs = { rope = "1" }
    [[release.build.file]]
    name = "old.zip"
    sha256 = "{0}"
    [[release.build.place]]
    to = "@mods/tides/"
  [[release.build]]
  name = "new"
[[option]]
id = "quality"
default = "high"
  [[option.choice]]
  id = "high"
  needs = { big-textures = "*" }
  [[option.choice]]
  id = "ultra"
  releases = ">=2"
  game = ">=1.7"
[[option]]
id = "sounds"
pick = "any"
default = ["gulls"]
  [[option.choice]]
  id = "gulls"
  [[option.choice]]
  id = "winch"
""".replace("{0}", "0" * 64)


def read(text: str) -> tuple[Mod | None, list[Fault]]:
    table = tomllib.loads(text)
    faults: list[Fault] = []
    places = {"mods": PlacePath("@game/mods")}
    orderings = dict([find_ordering(table)])
    return read_card(table, "cards/tides.toml", places, orderings, faults), faults


class CardTest(unittest.TestCase):
    def setUp(self) -> None:
        mod, faults = read(CARD)
        assert mod is not None, [str(fault) for fault in faults]
        self.mod = mod

    def release(self, text: str, build: str = "") -> Release:
        found = self.mod.release_named(text, build)
        assert found is not None
        return found

    def test_what_a_release_says(self) -> None:
        release = self.release("1.0")
        self.assertEqual(
            [str(need) for need in release.needs], ["keel >=2", "lamp", "rope >=1 or chain"]
        )
        self.assertEqual([need.key for need in release.needs][2], ("needs-one-of", 0))
        self.assertEqual(
            [(str(each.other), each.reason, each.spares_stand_ins) for each in release.clashes],
            [("fog", "", False), ("calm <2", "both still the sea", True)],
        )
        self.assertEqual(release.offers[0].version.text, "2.4")
        self.assertEqual(release.made_for[0].variants, ("wide", "paint.matt"))
        self.assertEqual(release.expansions_forbidden, ("deep",))
        self.assertEqual(
            (release.load_end, release.check_by_hand), ("last", ("a driver from 2023",))
        )

    def test_patches_inherit_what_they_do_not_say(self) -> None:
        stepwise = self.release("1.0.2")
        self.assertEqual(str(stepwise.needs[0]), "keel >=2.1")  # from the patch below it
        self.assertEqual((stepwise.game, stepwise.clashes), (">=1.5, <1.7", ()))
        self.assertEqual(stepwise.withdrawn, "eats saves")
        self.assertEqual(self.release("1.0.1").withdrawn, "")
        chain = [each.version.text for each in release_chain(stepwise, self.mod)]
        self.assertEqual(chain, ["1.0", "1.0.1", "1.0.2"])

    def test_builds_have_what_their_release_says_and_their_own(self) -> None:
        old, new = self.release("2.0", "old"), self.release("2.0", "new")
        self.assertEqual(old.game, "1.4 | >=1.6, <1.7")
        self.assertEqual((old.editions, new.editions), (("harbour",), ("boxed", "harbour")))
        self.assertEqual([str(need) for need in old.needs], ["keel 3.0+7", "rope 1"])
        self.assertEqual([file.name for file in old.files], ["common.zip", "old.zip"])
        self.assertEqual([file.name for file in new.files], ["common.zip"])
        self.assertEqual(old.name, "tides 2.0 (old)")
        self.assertEqual(old.source.key, ("release", 3, "build", 0))

    def test_options(self) -> None:
        quality, sounds = self.mod.options
        self.assertEqual((quality.pick, quality.default), ("one", ("high",)))
        self.assertEqual([choice.releases for choice in quality.choices], ["*", ">=2"])
        self.assertEqual((sounds.pick, sounds.default), ("any", ("gulls",)))

    def test_every_misspelt_key_is_named(self) -> None:
        for key in ("needs", "clashes", "offers", "made-for", "expansions", "load", "withdrawn"):
            mod, faults = read(CARD.replace(f"{key} =", f"{key}s =", 1))
            self.assertIsNone(mod)
            told = " ".join(map(str, faults))
            self.assertIn(f"{key}s: unknown key", told)


if __name__ == "__main__":
    unittest.main()
