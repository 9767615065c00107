"""What is on the shelf, whether it is whole, and what goes first when space is short."""

from __future__ import annotations

import json
import os
import unittest

from tests.support import WorldTest, run_rellum, write_tree, zip_bytes


class ShelfTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.add_release("tides", "1.0", {"mods/tides.dat": b"t" * 5000})
        self.world.add_release("lamps", "1.0", {"mods/lamps.dat": os.urandom(4000)})
        self.offer("tides", "from")
        self.offer("lamps", "by-hand")
        self.world.add_release("flags", "1.0", {"mods/flags.dat": os.urandom(3000)})
        self.world.add_release("bells", "1.0", {"mods/bells.dat": os.urandom(2000)})
        self.offer("bells", "from")
        self.world.adopt()
        self.world.take_all()
        write_tree(self.world.path("in"), {"what.zip": zip_bytes({"x": b"?"})})
        self.world.run("take", "../in/what.zip")
        self.world.want("tides")
        self.world.want("lamps")
        self.world.resolve()

    def offer(self, mod: str, key: str) -> None:
        """Say in a card how its archive is to be had."""
        value = '"Knock."' if key == "by-hand" else f'["http://files.example.invalid/{mod}.zip"]'
        card = self.world.cards[mod].replace(
            "[[release.place]]", f"{key} = {value}\n[[release.place]]"
        )
        write_tree(self.world.path("catalog", "cards"), {f"{mod}.toml": card.encode()})

    def items(self) -> dict[str, tuple[str, bool]]:
        found = json.loads(self.world.run("shelf", "--json").stdout)["archives"]
        return {each["name"]: (each["again"], bool(each["needed_by"])) for each in found}

    def test_lists_who_needs_what(self) -> None:
        self.assertEqual(
            self.items(),
            {
                "tides-1.0.zip": ("fetch", True),
                "lamps-1.0.zip": ("by hand", True),
                "flags-1.0.zip": ("by hand", False),
                "bells-1.0.zip": ("fetch", False),
                "what.zip": ("no", False),
            },
        )
        self.assertRegex(self.world.run("shelf").stdout, r"tides-1.0.zip +tides 1.0 +.*pack +fetch")

    def test_trims_in_order(self) -> None:
        asked = self.world.run("shelf", "trim")
        self.assertEqual(asked.returncode, 2)
        self.assertIn("this deletes archives and needs your answer", asked.stderr)
        self.assertIn("you would have to get them yourself: flags-1.0.zip, what.zip", asked.stderr)
        self.world.run("shelf", "trim", "--free", "1kB", "--yes")
        self.assertNotIn("bells-1.0.zip", self.items())
        self.world.run("shelf", "trim", "--yes")
        self.assertEqual(set(self.items()), {"tides-1.0.zip", "lamps-1.0.zip"})
        short = self.world.run("shelf", "trim", "--free", "1GB", "--yes")
        self.assertEqual(short.returncode, 1)
        self.assertIn("packs need some of these", short.stderr)
        self.assertIn("this is less than 1.0 GB", short.stderr)
        self.assertEqual(set(self.items()), {"lamps-1.0.zip"})
        left = [n for _, _, names in os.walk(self.world.path("shelf", "archives")) for n in names]
        self.assertEqual(len(left), 1)
        for words in (("list", "--free", "1"), ("polish",), ("trim", "--free", "much")):
            self.assertEqual(self.world.run("shelf", *words).returncode, 2)

    def test_drops_what_is_named(self) -> None:
        before = set(self.items())
        for name, gone in (("tides@1.0", "tides-1.0.zip"), ("what.zip", "what.zip")):
            asked = self.world.run("shelf", "drop", name)
            self.assertEqual(asked.returncode, 2)
            self.assertIn("this deletes archives and needs your answer", asked.stderr)
            self.assertEqual(set(self.items()), before)
            self.world.run("shelf", "drop", name, "--yes")
            before.remove(gone)
            self.assertEqual(set(self.items()), before)
        self.assertIn("without them Rellum cannot", self.world.run("shelf", "drop", "flags-1.0.zip").stderr
                      + self.world.run("shelf", "drop", "lamps-1.0.zip").stderr)  # fmt: skip
        for words in (("drop",), ("drop", "nothing"), ("list", "lamps-1.0.zip")):
            self.assertEqual(self.world.run("shelf", *words).returncode, 2)

    def test_a_pack_that_is_gone_is_said(self) -> None:
        os.rename(self.world.path("pack"), self.world.path("elsewhere"))
        result = run_rellum("shelf", cwd=self.world.root, shelf=self.world.path("shelf"))
        self.assertIn(f"the pack {self.world.path('pack')} is missing", result.stderr)
        self.assertNotIn("pack ", result.stdout)

    def test_what_is_damaged_is_set_aside(self) -> None:
        kept = {}
        for above, _, names in os.walk(self.world.path("shelf", "archives")):
            kept.update({name: os.path.join(above, name) for name in names})
        digest, path = sorted(kept.items())[0]
        with open(path, "r+b") as file:
            file.seek(40)
            file.write(b"!")
        gone = sorted(kept)[1]
        os.unlink(kept[gone])
        result = self.world.run("shelf", "check")
        self.assertEqual(result.returncode, 1)
        self.assertIn("5 files hashed, 2 not whole.", result.stdout)
        self.assertTrue(os.path.exists(self.world.path("shelf", "damaged", digest)))
        self.assertEqual(len(self.items()), 3)
        self.world.take_all()
        self.world.run("take", "../in/what.zip")
        self.assertEqual(len(self.items()), 5)
        clean = self.world.run("shelf", "check")
        self.assertEqual((clean.returncode, clean.stdout), (0, "5 files hashed, all whole.\n"))


if __name__ == "__main__":
    unittest.main()
