"""The line of every key, over texts that the standard reader accepts."""

from __future__ import annotations

import tomllib
import unittest
from typing import Any

import tomlkit
from hypothesis import given
from hypothesis import strategies as st

from rellum.core.catalog.toml_lines import key_lines

TEXT = '''\
# a comment = "no key"
top = """
[not.a.table]
x = 1 \\"""
"""
[mod]          # line 6
id = 'a#b'
"odd key" = {a = 1, b = ["x", "y"]}

[[release]]    # line 10
version = "1"
needs = { keelson = ">=2" }
list = [
  "one",       # line 14
  "two",
]
  [[release.file]]
  name = "f"

[[release]]    # line 20
a.b.c = 1
'''


class KeyLinesTest(unittest.TestCase):
    def test_every_kind_of_key(self) -> None:
        lines = key_lines(TEXT)
        for path, line in (
            (("top",), 2),
            (("mod",), 6),
            (("mod", "id"), 7),
            (("mod", "odd key", "b", 1), 8),
            (("release", 0), 10),
            (("release", 0, "needs", "keelson"), 12),
            (("release", 0, "list", 1), 15),
            (("release", 0, "file", 0, "name"), 18),
            (("release", 1), 20),
            (("release", 1, "a", "b", "c"), 21),
        ):
            self.assertEqual(lines.get(path), line, path)
        self.assertNotIn(("x",), lines)

    @given(
        st.recursive(
            st.one_of(st.text(max_size=8), st.integers(), st.booleans()),
            lambda inner: st.one_of(
                st.lists(inner, max_size=3), st.dictionaries(st.text(max_size=4), inner, max_size=3)
            ),
            max_leaves=12,
        ).map(lambda value: {"value": value})
    )
    def test_finds_a_line_for_every_plain_key(self, document) -> None:
        text = tomlkit.dumps(document)
        lines = key_lines(text)
        for path in plain_paths(tomllib.loads(text)):
            self.assertIn(path, lines, text)

    @given(st.text(alphabet="[]{}=\"'\n,.a# \\", max_size=60))
    def test_ends_on_any_text(self, text) -> None:
        key_lines(text)


def plain_paths(value: Any, path: tuple[str | int, ...] = ()):
    """Yield the path of each value reached by keys without escapes."""
    if path:
        yield path
    if isinstance(value, dict):
        for key, inner in value.items():
            if key.isascii() and key.isalnum():
                yield from plain_paths(inner, (*path, key))
    elif isinstance(value, list):
        for index, inner in enumerate(value):
            yield from plain_paths(inner, (*path, index))


if __name__ == "__main__":
    unittest.main()
