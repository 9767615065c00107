"""Catalogs with a mistake of each kind: all are told at once, by file and line."""

from __future__ import annotations

import os
import unittest

from rellum.core.actions.gather.vet import vet_catalog
from rellum.core.change.request import Request
from tests.support import WorldTest, write_tree

# What stands in a card's only release -> what is told of it.
BETWEEN = {
    'needs = { nowhere = "*" }': "no card in the catalog is for 'nowhere'",
    'needs = { other = ">=9" }': "no release of other matches '>=9'; there are 2, 1",
    'needs-one-of = [{ other = "1", nowhere = "*" }]': "no card in the catalog is for 'nowhere'",
    'expansions = { needs = ["ice-chart"] }': "no expansion 'ice-chart'; did you mean 'ice-charts'",
    'editions = ["boxd"]': "no edition 'boxd'; did you mean 'boxed'",
    'game = ">=2, <1"': "no version at all matches",
    'game = ">=3"': "no known game version matches '>=3'; the sheet knows 1.5.0, 1.6.0",
    'clashes = { nowhere = "*" }': "no card in the catalog is for 'nowhere'",
    'needs = { other = "1" }\nclashes = { other = "<2" }': "needs other 1 and clashes with other <2",
    'expansions = { needs = ["ice-charts"], forbids = ["ice-charts"] }': "needs and forbids",
    'needs = { faulty = "*" }': "faulty needs itself",
    'offers = { faulty = "1" }': "faulty offers itself",
    'clashes = { faulty = "*" }': "faulty clashes with itself",
    'made-for = { other = ["wide"] }': "other has no build or option 'wide'",
    'load = { after = ["nowhere"] }': "no card in the catalog is for 'nowhere'",
    'load = { after = ["other"], before = ["other"] }': "no load order exists",
}
# What a single card says wrong by itself.
INSIDE = {
    'version = "1"\n[[release]]\nversion = "1.0"': "version 1.0 appears twice here",
    'version = "1"\npatches = "0.9"': "'patches' names 0.9, which is not in this card",
    'version = "1"\npatches = "1"': "'patches' names itself in the end",
    'version = "1"\nneeds = { other = ">=>" }': "is not a range",
    'version = "1"\nneeds = { other = 3 }': "3 is not valid here",
    'version = "1"\n[[release.file]]\nname = "a"\nmd5 = "ab"': "a hash has 32 hexadecimal digits",
    'version = "1"\n[[release.file]]\nname = "a"\nfrom = ["ftp://a/b"]': "neither https://, http:// nor",
    'version = "1"\n[news]\nfrom = "https://a.invalid/"': "a page needs a 'pattern'",
    'version = "1"\n[news]\nfrom = "file:///x"\npattern = "(?P<version>1)"': "neither https:// nor",
    'version = "1"\n[news]\nfrom = "https://a.invalid/"\nform = "xml"': "'version' is missing",
    'version = "1"\n[news]\nfrom = "https://a.invalid/"\npattern = "1"': "names no group 'version'",
    'version = "1"\nneeds-one-of = [{}]': "it names no mod",
    'version = "1"\nload = { at = "middle" }': "'middle' is neither first nor last",
    'version = "1"\nwithdrawn = ""': "it is empty",
    'version = "1"\n[[release.build]]\nname = "a"\n[[release.build]]\nname = "a"': "appears twice here",
    'version = "1"\n[[option]]\nid = "q"\npick = "some"': "neither one nor any",
    'version = "1"\n[[option]]\nid = "q"\ndefault = "hi"\n[[option.choice]]\nid = "high"': (
        "'hi' is not a choice of this option"
    ),
    'version = "1"\n[[option]]\nid = "q"': "there is no [[option.choice]]",
    f'version = "{"9" * 101}"': "a version has at most 100 characters",
}


class VetTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        with open(self.world.path("catalog", "games", "fathomline.toml"), encoding="utf-8") as file:
            sheet = file.read().replace("marks", 'versions = ["1.6.0", "1.5.0"]\nmarks', 1)
        self.write({"games/fathomline.toml": sheet})
        self.card("other", 'version = "1"\n[[release]]\nversion = "2"')

    def write(self, files: dict[str, str]) -> None:
        contents = {name: text.encode() for name, text in files.items()}
        write_tree(self.world.path("catalog"), contents)

    def card(self, mod: str, release: str) -> None:
        text = f'[mod]\nid = "{mod}"\nname = "X"\n[[release]]\n{release}\n'
        self.write({f"cards/{mod}.toml": text})

    def faults(self) -> list[str]:
        return list(
            vet_catalog(
                Request(pack_folder=self.world.path("pack")), [self.world.path("catalog")]
            ).faults
        )

    def assert_one(self, words: str) -> None:
        found = self.faults()
        self.assertTrue(any(words in each for each in found), (words, found))
        for each in found:
            self.assertRegex(each, r"^[^:]+\.toml:\d+: ")

    def test_each_mistake_between_files(self) -> None:
        for said, words in BETWEEN.items():
            with self.subTest(said):
                self.card("faulty", f'version = "1"\n{said}')
                self.assert_one(words)

    def test_a_file_without_a_hash_is_a_note(self) -> None:
        self.card("faulty", 'version = "1"\n[[release.file]]\nname = "a.zip"')
        result = self.world.run("vet")
        self.assertEqual(result.returncode, 0, result.stdout)
        self.assertIn("note: ", result.stdout)
        self.assertIn("a.zip has neither sha256 nor blake3", result.stdout)

    def test_each_mistake_inside_a_card(self) -> None:
        for release, words in INSIDE.items():
            with self.subTest(release):
                self.card("faulty", release)
                self.assert_one(words)

    def test_all_at_once_and_none_where_all_is_well(self) -> None:
        self.assertEqual(self.faults(), [])
        self.card("one", 'version = "1"\nneeds = { nowhere = "*" }')
        self.card("two", 'version = "x x"')
        self.card("three", 'version = "1"\nload = { after = ["four"] }')
        self.card("four", 'version = "1"\nload = { after = ["three"] }')
        self.write(
            {"cards/copy.toml": '[mod]\nid = "one"\nname = "X"\n[[release]]\nversion = "1"\n'}
        )
        trials = [
            ('outcome = "works"', "1.9.0", "2026-01-01", 'other = "1"'),
            ('outcome = "breaks"', "1.6.0", "2026-01-01", 'other = "7", nowhere = "1"'),
            ('outcome = "sinks"', "1.6.0", '"yesterday"', ""),
        ]
        text = "".join(
            f'[[trial]]\n{outcome}\ngame = "{game}"\ndate = {date}\nreleases = {{ {releases} }}\n'
            for outcome, game, date, releases in trials
        )
        self.write({"trials.toml": text})
        told = "\n".join(self.faults())
        for words in (
            "'nowhere'", "'x x' is not a version", "three after four", "'one' is taken already",
            "knows no version 1.9.0", "other has no release '7'", "neither works nor breaks",
            "name at least one", "yesterday",
        ):  # fmt: skip
            self.assertIn(words, told)

    def test_a_version_that_cannot_be_read_is_one_mistake(self) -> None:
        self.card("one", 'version = "x x"\n[[release]]\nversion = "y y"')
        self.assertEqual([("is not a version" in each) for each in self.faults()], [True, True])

    def test_garbage_and_absurd_nesting(self) -> None:
        hostile = {
            "garbage": os.urandom(10 << 20),
            "deep": b"a = " + b"[" * 100_000,
            "keys": b"[" + b".".join([b"a"] * 50_000) + b"]",
            "latin": "name = 'Fathomlinè'".encode("latin-1"),
        }
        for name, content in hostile.items():
            write_tree(self.world.path("catalog", "cards"), {f"{name}.toml": content})
        told = "\n".join(self.faults())
        for words in ("larger than 4 MiB", "nested too deeply", "not UTF-8"):
            self.assertIn(words, told)
        self.assertEqual(len(self.faults()), len(hostile))

    def test_the_program_says_no_by_its_exit_status(self) -> None:
        self.assertEqual(self.world.run("vet", "../catalog").returncode, 0)
        self.card("faulty", 'version = "1"\nneeds = { nowhere = "*" }')
        result = self.world.run("vet", "../catalog")
        self.assertEqual(result.returncode, 1)
        self.assertIn("cards/faulty.toml:6: needs.nowhere: no card", result.stdout)


if __name__ == "__main__":
    unittest.main()
