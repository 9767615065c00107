"""``resolve`` says again what it said, and only as long as nothing changed of what it rests on."""

from __future__ import annotations

import json
import os
import unittest
from collections.abc import Callable
from unittest import mock

from rellum.core.hashing import hash_bytes
from tests.support import WorldTest, write_tree


class ResolveAgainTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        for version in ("1.0", "2.0"):
            self.world.add_release("tides", version, {f"mods/tides-{version}.dat": b"a"})
        self.world.add_release("reef", "1.0", {"mods/reef.dat": b"b"})
        self.world.adopt()
        self.world.want("tides")
        self.file = self.world.path("pack", ".rellum", "answers", "resolved")

    def resolve(self, *words: str) -> str:
        done = self.world.run("resolve", *words)
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout

    def plant(self) -> None:
        """Let what is remembered be false, so that its use shows."""
        for _ in range(2):  # the first one may be what makes the shelf
            self.resolve()
        with open(self.file, "rb") as file:
            mark, _, text = file.read().split(b"\n", 2)
        false = json.loads(text)
        false["told"][0] = "remembered"
        false["document"]["left_out"] = ["remembered"]
        content = json.dumps(false).encode()
        with open(self.file, "wb") as file:
            file.write(b"\n".join([mark, hash_bytes(content).encode(), content]))
        self.assertIn("remembered", self.resolve())
        self.assertIn("remembered", self.resolve("--json"))

    def test_the_same_is_said_as_if_it_were_worked_out(self) -> None:
        self.resolve()
        for words in ((), ("--json",)):
            remembered = self.resolve(*words)
            os.unlink(self.file)
            self.assertEqual(self.resolve(*words), remembered)
            self.assertTrue(os.path.exists(self.file))

    def test_every_source_counts(self) -> None:
        card = self.world.path("catalog", "cards", "tides.toml")

        def add_card() -> None:
            self.world.add_release("foam", "1.0", {"mods/foam.dat": b"f"})

        def touch_card() -> None:
            os.utime(card, ns=(5, 5))

        def damage_answer() -> None:
            with open(self.file, "ab") as file:
                file.write(b" ")

        def trial() -> None:
            self.assertEqual(self.world.run("trial", "works").returncode, 0)

        changes: tuple[Callable[[], object], ...] = (
            lambda: self.world.want("reef"),
            lambda: self.world.run("hold", "tides", "1.0", "--reason", "calm"),
            lambda: self.world.change_pack("# a word\n"),
            lambda: os.unlink(self.world.path("pack", "rellum.lock")),
            self.world.take_all,
            touch_card,
            add_card,
            trial,
            lambda: self.world.change_sheet(places='more = "@game/more"'),
            lambda: self.resolve("--fresh"),
            damage_answer,
        )
        for number, change in enumerate(changes):
            with self.subTest(number):
                self.plant()
                change()
                self.assertNotIn("remembered", self.resolve())
        self.plant()
        with mock.patch.dict(os.environ, RELLUM_CATALOG=self.world.path("catalog")):
            self.assertNotIn("remembered", self.resolve())

    def test_cards_behind_a_link_and_a_nearer_catalog_count(self) -> None:
        cards = self.world.path("catalog", "cards")
        os.rename(cards, self.world.path("elsewhere"))
        os.symlink(self.world.path("elsewhere"), cards)
        self.plant()
        self.world.add_release("tides", "3.0", {"mods/tides-3.0.dat": b"a"})
        self.assertNotIn("remembered", self.resolve())
        pack = self.world.path("pack", "rellum.toml")
        with open(pack, encoding="utf-8") as file:
            lines = [line for line in file if not line.startswith("catalogs")]
        with open(pack, "w", encoding="utf-8") as file:
            file.writelines(lines)
        self.plant()
        os.rename(self.world.path("catalog"), self.world.path("pack", "catalog"))
        self.assertNotIn("remembered", self.resolve())

    def test_a_warning_is_said_each_time(self) -> None:
        write_tree(self.world.path("catalog", "cards"), {"foam.toml": b"[mod]\nid = 5\n"})
        for _ in range(3):
            done = self.world.run("resolve")
            self.assertIn("mistake", done.stderr)

    def test_a_question_that_is_open_is_asked_again(self) -> None:
        options = (
            '\n[[option]]\nid = "size"\npick = "one"\n[[option.choice]]\nid = "small"\n'
            '[[option.choice]]\nid = "large"\n'
        )
        self.world.cards["tides"] += options
        write_tree(
            self.world.path("catalog", "cards"), {"tides.toml": self.world.cards["tides"].encode()}
        )
        for _ in range(2):
            self.assertIn("no default for size", self.resolve())
        self.assertFalse(os.path.exists(self.file))


if __name__ == "__main__":
    unittest.main()
