"""The cache of cards: what it gives is what the files say, whatever happens to either."""

from __future__ import annotations

import os
import time
from unittest import mock

from rellum.core.catalog import read_cards, tables
from rellum.core.catalog.cache import cache_file
from rellum.core.catalog.card_store import terms_of
from rellum.core.catalog.load import load_catalog
from rellum.core.catalog.model import Catalog, Mod
from rellum.core.values.ids import ModId, SheetId
from tests.support import WorldTest, write_tree

CARD = '[mod]\nid = "{0}"\nname = "N"\nversions = "{1}"\n[[release]]\nversion = "{2}"\n{3}\n'


class CacheTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        for number in range(5):
            self.write(f"m{number}", "dotted", f"1.{number}")

    def write(self, mod: str, scheme: str, version: str, said: str = "") -> None:
        content = CARD.format(mod, scheme, version, said).encode()
        write_tree(self.world.path("catalog", "cards"), {f"{mod}.toml": content})
        self.age(mod)

    def age(self, mod: str) -> None:
        """Make the file's own time an old one; ``load`` makes now late enough for its change time."""
        long_ago = time.time() - 1000
        os.utime(self.world.path("catalog", "cards", f"{mod}.toml"), (long_ago, long_ago))

    def load(self) -> Catalog:
        with mock.patch("time.time_ns", lambda: 2**62):
            return load_catalog((self.world.path("catalog"),), SheetId("fathomline"))

    def versions(self) -> dict[str, str]:
        mods: dict[ModId, Mod] = dict(self.load().mods)
        return {mod.id: mod.releases[0].version.text for mod in mods.values()}

    def parsed(self) -> list[str]:
        """Load, and return the cards that were read from their files."""
        with mock.patch.object(read_cards, "parse_toml", wraps=tables.parse_toml) as parse:
            self.load()
        return [os.path.basename(call.args[0]) for call in parse.call_args_list]

    def test_only_what_changed_is_read_again(self) -> None:
        self.assertEqual(len(self.parsed()), 5)
        self.assertEqual(self.parsed(), [])
        self.write("m3", "dotted", "2.0")
        self.assertEqual(self.parsed(), ["m3.toml"])
        os.unlink(self.world.path("catalog", "cards", "m1.toml"))
        expected = {"m0": "1.0", "m2": "1.2", "m3": "2.0", "m4": "1.4"}
        self.assertEqual(self.versions(), expected)

    def test_another_ordering_of_one_mod_reads_all_anew(self) -> None:
        self.write("m0", "dotted", "1.0", 'needs = { m4 = "<1.5" }')
        self.load()
        self.write("m4", "listed", "Spring Tide")
        self.assertIn("m0.toml:7", "".join(self.load().faulty[ModId("m0")]))

    def test_two_cards_with_one_id_are_read_once_and_count_again_when_one_goes(self) -> None:
        self.write("m0", "dotted", "1.0", 'needs = { twin = ">=1" }')
        twin = CARD.format("twin", "dotted", "1.0", 'needs = { m1 = ">=1" }').encode()
        write_tree(self.world.path("catalog", "cards"), {"n1.toml": twin, "n2.toml": twin})
        self.assertEqual(list(self.load().faulty), ["twin"])
        self.assertEqual(self.parsed(), [])
        os.unlink(self.world.path("catalog", "cards", "n2.toml"))
        catalog = self.load()
        self.assertEqual(list(catalog.faulty), [])
        for mod in ("m0", "twin"):
            [need] = terms_of(catalog).terms(ModId(mod)).plain_needs
            self.assertEqual(need.meets, 0b10)

    def test_faults_are_told_every_time(self) -> None:
        self.load()
        self.write("m2", "dotted", "", "")
        for _ in range(2):
            self.assertEqual(list(self.load().faulty), ["m2"])

    def test_a_faulty_card_is_read_each_time_and_no_other(self) -> None:
        for scheme in ("dotted", "semver"):
            for head in ("", 'id = "m2"'):
                card = f'[mod]\n{head}\nversions = "{scheme}"\nnmae = 1\n'
                write_tree(self.world.path("catalog", "cards"), {"m2.toml": card.encode()})
                self.load()
                self.assertEqual(set(self.parsed()), {"m2.toml"}, card)
        self.write("m2", "dotted", "3.0")
        self.assertEqual(set(self.parsed()), {f"m{number}.toml" for number in range(5)})
        self.assertEqual(self.parsed(), [])

    def test_a_damaged_or_missing_cache_is_no_matter(self) -> None:
        good = self.versions()
        file = cache_file((self.world.path("catalog"),), "fathomline")
        with open(file, "rb") as stream:
            content = stream.read()
        for bad in (b"", b"x", content[:-9], content[:300] + b"\0" + content[301:], b"0" * 500):
            with open(file, "wb") as stream:
                stream.write(bad)
            self.assertEqual(self.versions(), good)
        os.unlink(file)
        os.mkdir(file)  # cannot be written either
        self.assertEqual(self.versions(), good)

    def test_a_file_changed_just_now_is_not_trusted(self) -> None:
        for _ in range(2):
            with mock.patch.object(read_cards, "parse_toml", wraps=tables.parse_toml) as parse:
                load_catalog((self.world.path("catalog"),), SheetId("fathomline"))
            self.assertEqual(parse.call_count, 5)

    def test_many_cards_are_read_by_two_processes_alike(self) -> None:
        for number in range(60):
            said = "" if number % 7 else f'needs = {{ m0 = ">={number}" }}'
            self.write(f"n{number}", "semver" if number % 5 else "dotted", "1.2.3", said)
        several = dict(self.load().mods)
        with mock.patch.object(read_cards, "_FEW", 1000):
            os.unlink(cache_file((self.world.path("catalog"),), "fathomline"))
            self.assertEqual(dict(self.load().mods), several)
