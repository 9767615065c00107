"""What mods say about themselves: mappings of several made-up games, and words that nobody should trust."""

from __future__ import annotations

import json
import tomllib
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.self_descriptions import SelfDescription, read_self_descriptions
from rellum.core.catalog.tables import Fault, TableReader
from rellum.core.describing.own_words import OwnWords, as_id, both_of, own_words_in
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.ranges import parse_range

JSON = """
[[self-description]]
file = "about.json"
form = "json"
id = [["uuid"], ["id"]]
name = ["title"]
version = ["version"]
licence = ["license"]
pattern = { id = '^[^;]+' }
[[self-description.game]]
at = ["game"]
notation = "comparators"
[[self-description.needs]]
at = ["depends"]
id = "id"
range = ["min", "exact"]
notation = "at-least"
[[self-description.clashes]]
at = ["conflicts"]
"""
XML = """
[[self-description]]
file = "mod.xml"
form = "xml"
id = ["mod", "@id"]
version = ["mod", "@version"]
[[self-description.game]]
at = ["mod", "engines", "engine"]
where = { "@name" = "gloam" }
range = "@version"
notation = "semver"
[[self-description.load-after]]
at = ["mod", "after"]
split = ","
pattern = '(?P<id>[^:]+)(?::(?P<range>.+))?'
notation = "at-least"
"""
LINES = """
[[self-description]]
file = "*.txt"
form = "lines"
id = "folder"
[[self-description.needs]]
at = ["x"]
"""

KEYS = ("id", "uuid", "title", "version", "game", "depends", "conflicts")
JSON_VALUES = st.recursive(
    st.none() | st.booleans() | st.floats(allow_nan=False) | st.text(max_size=12),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=6), inner, max_size=3)
    ),
    max_leaves=8,
)


def descriptions(text: str) -> tuple[SelfDescription, ...]:
    faults: list[Fault] = []
    root = TableReader(tomllib.loads(text), Source(file="sheet.toml"), faults)
    found = read_self_descriptions(root)
    assert not faults, faults
    return found


def words(sheet: str, files: dict[str, str | bytes]) -> tuple[OwnWords, ...]:
    contents = {
        path: text.encode() if isinstance(text, str) else text for path, text in files.items()
    }
    return own_words_in(descriptions(sheet), contents, lambda path: contents[path])


class OwnWordsTest(unittest.TestCase):
    def one(self, sheet: str, files: dict[str, str | bytes]) -> OwnWords:
        [found] = words(sheet, files)
        return found

    def test_json(self) -> None:
        said = {
            "id": "Fen:Lights;extra", "title": "__MOD_NAME__", "version": "v1.2", "license": "MIT",
            "game": ">=2.4 <3", "conflicts": ["still-water"],
            "depends": [{"id": "moss", "min": "1.3"}, {"id": "reed", "exact": "2"}, {"id": "any"}],
        }  # fmt: skip
        found = self.one(JSON, {"mod/about.json": json.dumps(said), "mod/deep/about.json": "{}"})
        self.assertEqual((found.said_id, found.id, found.name), ("Fen:Lights", "fen-lights", ""))
        self.assertEqual((found.version, found.licence, found.game), ("1.2", "MIT", ">=2.4, <3"))
        self.assertEqual(
            [(each.id, each.range) for each in found.needs],
            [("moss", ">=1.3"), ("reed", ">=2"), ("any", "*")],
        )
        self.assertEqual([each.id for each in found.clashes], ["still-water"])
        self.assertEqual(found.unread, ())

    def test_xml(self) -> None:
        text = (
            '<mod id="Reed" version="0.3"><engines><engine name="other" version="1"/>'
            '<engine name="gloam" version="^2.4"/></engines><after>moss:1.2, fen</after></mod>'
        )
        found = self.one(XML, {"reed/mod.xml": text})
        self.assertEqual((found.id, found.version, found.game), ("reed", "0.3", ">=2.4, <3"))
        self.assertEqual(
            [(each.id, each.range) for each in found.load_after], [("moss", ">=1.2"), ("fen", "*")]
        )

    def test_the_folder_can_be_the_id(self) -> None:
        self.assertEqual(self.one(LINES, {"pack/Deep Fen/list.txt": "a"}).id, "deep-fen")

    def test_a_list_of_game_versions_means_any_of_them(self) -> None:
        found = self.one(JSON, {"m/about.json": '{"id": "m", "game": ["2.4", "2.5.1"]}'})
        self.assertEqual(found.game, "2.4 | 2.5.1")

    def test_several_mods_and_none(self) -> None:
        files: dict[str, str | bytes] = {
            f"{name}/about.json": f'{{"id": "{name}"}}' for name in "abc"
        }
        self.assertEqual([each.id for each in words(JSON, files)], ["a", "b", "c"])
        self.assertEqual(words(JSON, {"a/readme.txt": "x"}), ())
        self.assertEqual(words(JSON, {"a/about.json": "[]", "b/about.json": '{"id": "!?"}'}), ())

    def test_what_is_not_understood_is_quoted(self) -> None:
        named = self.one(JSON, {"m/about.json": '{"id": "m", "version": "dog watch"}'})
        self.assertEqual((named.version, named.unread), ("dog watch", ()))
        said = {"id": "m", "version": "9" * 100_000, "game": "any of the newer ones",
                "depends": [{"id": "moss", "min": "x y"}]}  # fmt: skip
        found = self.one(JSON, {"m/about.json": json.dumps(said)})
        self.assertEqual((found.version, found.game), ("", ""))
        self.assertEqual(
            [each.split(":")[0] for each in found.unread], ["version", "game", "needs"]
        )
        self.assertIn("any of the newer ones", found.unread[1])
        self.assertLess(max(map(len, found.unread)), 300)
        many = {"id": "m", "depends": [{"id": f"m{n}"} for n in range(10_000)]}
        found = self.one(JSON, {"m/about.json": json.dumps(many)})
        self.assertLessEqual(len(found.needs), 400)
        self.assertIn("more than 400", found.unread[0])

    @given(st.lists(st.sampled_from([">=1", "<3", "2.* | 4", "1 | >=3", "!=2.5"]), max_size=5))
    def test_ranges_are_joined_by_and(self, ranges: list[str]) -> None:
        joined = both_of(ranges)
        assert joined is not None
        whole = parse_range(joined or "*")
        for version in ("0", "1", "2", "2.5", "2.9", "3", "4", "5"):
            parsed = parse_version(version)
            expected = all(parsed in parse_range(each) for each in ranges)
            self.assertEqual(parsed in whole, expected, (version, joined))

    @given(st.dictionaries(st.sampled_from(KEYS), JSON_VALUES))
    def test_whatever_is_said_gives_values_that_cards_accept(self, said: dict[str, object]) -> None:
        for found in words(JSON, {"m/about.json": json.dumps(said)}):
            for text in (found.id, *(each.id for each in (*found.needs, *found.clashes))):
                self.assertRegex(text, r"^[a-z0-9]+(-[a-z0-9]+)*$")
            for text in (found.game, *(each.range for each in (*found.needs, *found.clashes))):
                parse_range(text or "*")
            if found.version:
                self.assertRegex(found.version, r"^[A-Za-z0-9][\w. +-]*$")

    @given(st.text(max_size=80))
    def test_any_text_gives_an_id(self, text: str) -> None:
        self.assertRegex(as_id(text), r"^([a-z0-9]+(-[a-z0-9]+)*)?$")


if __name__ == "__main__":
    unittest.main()
