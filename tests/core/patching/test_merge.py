"""Three-way merging: laws that hold for any texts, by line and by key."""

from __future__ import annotations

import json
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.patching.keys import read_keys
from rellum.core.patching.merge import Side, merge_settings
from rellum.core.patching.model import PatchFault, SettingsForm

SIDES: tuple[Side, ...] = ("mine", "theirs")
FORMS: tuple[SettingsForm, ...] = ("ini", "json")
texts = st.lists(st.sampled_from([b"a\n", b"b\n", b"c\n", b"d\r\n", b"\n", b"x"]), max_size=8).map(
    b"".join
)
tables = st.dictionaries(st.sampled_from("abcd"), st.sampled_from("123"), max_size=4)


def ini(table: dict[str, str]) -> bytes:
    return b"; settings\n[sea]\n" + "".join(f"{k} = {v}\n" for k, v in table.items()).encode()


class MergeTest(unittest.TestCase):
    @given(texts, texts, texts)
    def test_by_line(self, base: bytes, mine: bytes, theirs: bytes) -> None:
        def merged(one: bytes, two: bytes) -> bytes:
            found = merge_settings(base, one, two, None, "mine", "f")
            self.assertEqual(found.conflicts, ())
            return found.content

        self.assertEqual(merged(mine, base), mine)
        self.assertEqual(merged(base, theirs), theirs)
        self.assertEqual(merged(mine, mine), mine)
        both = [merge_settings(base, mine, theirs, None, side, "f") for side in SIDES]
        turned = merge_settings(base, theirs, mine, None, "theirs", "f")
        self.assertEqual(both[0].content, turned.content)
        self.assertEqual(bool(both[0].conflicts), bool(turned.conflicts))
        if not both[0].conflicts:
            self.assertEqual(both[0].content, both[1].content)

    @given(tables, tables, tables)
    def test_by_key(
        self, base: dict[str, str], mine: dict[str, str], theirs: dict[str, str]
    ) -> None:
        for form in FORMS:
            write = ini if form == "ini" else lambda table: json.dumps({"sea": table}).encode()
            for side in SIDES:
                found = merge_settings(write(base), write(mine), write(theirs), form, side, "f")
                expected, conflicts = dict(mine), set()
                for key in base.keys() | theirs.keys():
                    new = theirs.get(key)
                    if new == base.get(key) or new == mine.get(key):
                        continue
                    if mine.get(key) != base.get(key):
                        conflicts.add(f"sea.{key}")
                        if side == "mine":
                            continue
                    expected.pop(key, None) if new is None else expected.update({key: new})
                read = read_keys(found.content, form, "f") or {}
                self.assertEqual({key[-1]: v for key, v in read.items()}, expected)
                self.assertEqual({each.key for each in found.conflicts}, conflicts)

    def test_comments_and_order_stay_the_users(self) -> None:
        base = b"a = 1\nb = 2\n"
        mine = b"# my own order\nb = 2\n\n# a is best so\na = 9\n"
        theirs = b"a = 1\nb = 3\nc = 4\n"
        forms: tuple[SettingsForm, ...] = ("properties", "toml")
        for form in forms:
            found = merge_settings(base, mine, theirs, form, "mine", "f").content
            self.assertEqual(
                found, b"# my own order\nb = 3\n\n# a is best so\na = 9\nc = 4\n", form
            )

    @given(st.dictionaries(st.sampled_from("pqr"), tables, max_size=3), tables, st.booleans())
    def test_what_a_mod_brought_goes_with_its_sections(self, own, mods, has_more) -> None:
        """The player's file is byte for byte as it would be without the mod."""

        def text(sections: dict[str, dict[str, str]]) -> bytes:
            parts = (
                f"[{name}]\n" + "".join(f"{k} = {v}\n" for k, v in table.items())
                for name, table in sections.items()
            )
            return "\n".join(("top = 1\n", *parts)).encode()

        under, mod = text(own), text({"sea": mods, "swell": {"a": "1"}})
        laid = merge_settings(None, under, mod, "ini", "mine", "f").content
        now = laid.replace(b"top = 1", b"top = 2") + b"[late]\nx = 1\n" * has_more
        back = merge_settings(laid, now, under, "ini", "mine", "f").content
        wanted = under.replace(b"top = 1", b"top = 2")
        self.assertEqual(back.replace(b"[late]\nx = 1\n", b"").rstrip(), wanted.rstrip())
        self.assertEqual(b"[late]" in back, has_more)

    def test_keys_compare_as_readers_compare_them(self) -> None:
        """INI folds, and what stands keeps its spelling; where a sheet says so, it does not."""
        mine, theirs = b"[View]\nWaves = low\n", b"[view]\nwaves = high\nfoam = on\n"
        merged = merge_settings(None, mine, theirs, "ini", "mine", "x")
        self.assertEqual([each.key for each in merged.conflicts], ["View.Waves"])
        self.assertEqual(merged.content, b"[View]\nWaves = low\nfoam = on\n")
        merged = merge_settings(mine, mine, theirs, "ini", "mine", "x")
        self.assertEqual(merged.content, b"[View]\nWaves = high\nfoam = on\n")
        self.assertEqual(merged.conflicts, ())
        merged = merge_settings(
            mine, mine, b"[View]\nWaves = low\nwaves = high\n", "ini-exact", "mine", "x"
        )
        self.assertEqual(merged.content, b"[View]\nWaves = low\nwaves = high\n")
        merged = merge_settings(b"", b"Waves=low\n", b"waves=high\n", "properties", "mine", "x")
        self.assertEqual(merged.content, b"Waves=low\nwaves=high\n")

    def test_a_key_that_stands_twice_is_merged_by_line(self) -> None:
        base = b"[m]\nload = a\nload = b\n"
        theirs = base.replace(b"= b", b"= c")
        found = merge_settings(base, b"; mine\n" + base, theirs, "ini", "mine", "f")
        self.assertEqual(found.content, b"; mine\n" + theirs)

    def test_what_does_not_parse_is_named_with_its_line(self) -> None:
        cases: tuple[tuple[SettingsForm, bytes, str], ...] = (
            ("json", b'{\n"a": }', "f:2: is no JSON"),
            ("toml", b"a = 1\na = = 2", "line 2"),
            ("ini", b"a = 1\n\xff\xfe", "line 2 of the file is no UTF-8"),
        )
        for form, wrong, words in cases:
            with self.subTest(form), self.assertRaisesRegex(PatchFault, words):
                merge_settings(b"", wrong, b"", form, "mine", "f")


if __name__ == "__main__":
    unittest.main()
