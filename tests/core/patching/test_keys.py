"""Single keys of settings files: what is set is there, and nothing else changes."""

from __future__ import annotations

import configparser
import json
import tomllib
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.patching.keys import edit_keys, form_by_name
from rellum.core.patching.model import PatchFault, SettingsForm

INI = b"""\
; the sea
top = 1
[Sea]
depth=10
; how salty
salt = high

[lamps]
count : 3
"""
NAMES = st.sampled_from(["sea", "lamps", "new"])
KEYS = st.sampled_from(["depth", "salt", "count", "colour"])
VALUES = st.sampled_from(["1", "deep", "a b", ""])


class KeysTest(unittest.TestCase):
    def test_ini(self) -> None:
        edited = edit_keys(
            INI,
            "ini",
            [(("sea", "depth"), 40), (("lamps", "on"), True), (("lamps", "count"), None),
             (("top",), "2"), (("sky", "blue"), "yes")],
            "c",
        )  # fmt: skip
        self.assertEqual(
            edited.decode(),
            "; the sea\ntop = 2\n[Sea]\ndepth=40\n; how salty\nsalt = high\n\n[lamps]\non = true\n"
            "\n[sky]\nblue = yes\n",
        )

    def test_ends_of_lines_and_marks_stay(self) -> None:
        content = b"\xef\xbb\xbf" + INI.replace(b"\n", b"\r\n")
        edited = edit_keys(content, "ini", [(("sea", "salt"), "low")], "c")
        self.assertEqual(edited, content.replace(b"salt = high", b"salt = low"))
        self.assertEqual(edit_keys(b"a=1", "properties", [(("a",), 2)], "c"), b"a=2")
        self.assertEqual(edit_keys(b"", "properties", [(("a", "b"), 2)], "c"), b"a.b = 2\n")

    @given(st.lists(st.tuples(st.tuples(NAMES, KEYS), VALUES | st.none()), max_size=8))
    def test_ini_against_another_reader(self, settings) -> None:
        expected = {"sea": {"depth": "10", "salt": "high"}, "lamps": {"count": "3"}}
        for (section, key), value in settings:
            if value is None:
                expected.get(section, {}).pop(key, None)
            else:
                expected.setdefault(section, {})[key] = value
        edited = edit_keys(INI, "ini", settings, "c").decode()
        parser = configparser.ConfigParser(strict=True)
        parser.read_string(edited.replace("top = 1\n", ""))
        found = {name.lower(): dict(parser[name]) for name in parser.sections()}
        self.assertEqual(found, expected)
        for comment in ("; the sea", "; how salty"):
            self.assertIn(comment, edited)
        last = list(dict(settings).items())
        once = edit_keys(INI, "ini", last, "c")
        self.assertEqual(edit_keys(once, "ini", last, "c"), once)

    def test_json_and_toml(self) -> None:
        edited = edit_keys(b'{\n  "sea": {"depth": 1}, "x": 2\n}\n', "json",
                           [(("sea", "depth"), 9), (("x",), None), (("y", "z"), "q")], "c")  # fmt: skip
        self.assertEqual(json.loads(edited), {"sea": {"depth": 9}, "y": {"z": "q"}})
        toml = b"# top\n[sea] # salt\ndepth = 1 # metres\n"
        edited = edit_keys(toml, "toml", [(("sea", "depth"), 9), (("new", "k"), True)], "c")
        self.assertTrue(edited.startswith(b"# top\n[sea] # salt\ndepth = 9 # metres\n"))
        self.assertEqual(tomllib.loads(edited.decode()), {"sea": {"depth": 9}, "new": {"k": True}})

    def test_no_list_or_value_becomes_a_table(self) -> None:
        forms: tuple[tuple[SettingsForm, bytes], ...] = (
            ("json", b'{"libs": ["a", "b"], "depth": 3}'),
            ("toml", b'libs = ["a", "b"]\ndepth = 3\n'),
        )
        for form, content in forms:
            for path in (("libs", "1"), ("depth", "sea")):
                with self.subTest(form=form, path=path), self.assertRaises(PatchFault) as raised:
                    edit_keys(content, form, [(path, "x")], "card.toml:7")
                self.assertIn("card.toml:7", raised.exception.summary)
            self.assertEqual(edit_keys(content, form, [(("no", "key"), None)], "x"), content)

    def test_what_does_not_parse(self) -> None:
        for content, form, settings, words in (
            (b"a = \n", "toml", [(("a",), 1)], "no TOML"),
            (b"a = 1\n", "toml", [(("a", "b"), 1)], "no TOML that this fits"),
            (b"{", "json", [(("a",), 1)], "the file:1: is no JSON"),
            (b"x\n\xff", "ini", [(("a",), 1)], "line 2 of the file is no UTF-8"),
            (b"", "ini", [(("a", "b", "c"), 1)], "'a.b.c' is too deep"),
        ):
            with self.assertRaisesRegex(PatchFault, words):
                edit_keys(content, form, settings, "c")  # type: ignore[arg-type]
        self.assertEqual(form_by_name("@game/Sea.CFG"), "ini")
        self.assertIsNone(form_by_name("@game/sea.dat"))


if __name__ == "__main__":
    unittest.main()
