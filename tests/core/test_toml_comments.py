"""Comments stay above the table that they stood above, whatever is added where."""

from __future__ import annotations

import tomllib
import unittest
from random import Random

import tomlkit
from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.toml_comments import comments_in_place

randoms = st.integers(0, 2**32).map(Random)
TRAPS = (
    'text = """\n# no comment\n[no.table]\n"""\n',
    'list = [\n  "a",  # one\n  # two\n  "b",\n]\n',
)


def drawn(source: Random) -> str:
    """Return a text of some tables, some with a comment above."""
    parts = ["# The head.\n\n"]
    for name in source.sample(["pack", "game", "want", "hold", "game.places", "feed"], 4):
        for line in range(source.choice([0, 0, 1, 2])):
            parts.append(f"# {line} about {name}\n")
        parts.append(f"[{name}]\n")
        parts += [f'key{number} = "x"\n' for number in range(source.randrange(3))]
        parts.append(source.choice(["", "", "", *TRAPS]))
        parts.append(source.choice(["", "# the end of this\n", ""]))
        parts.append("\n" * source.choice([0, 1, 1, 2]))
    return "".join(parts)


def above_tables(text: str) -> dict[str, list[str]]:
    """Return the comments directly above each table that are about one."""
    found: dict[str, list[str]] = {}
    comments: list[str] = []
    for line in text.splitlines():
        if line.startswith("# ") and " about " in line:
            comments.append(line)
        else:
            if line.startswith("[") and line != "[no.table]":
                found[line] = comments
            comments = []
    return found


class TomlCommentsTest(unittest.TestCase):
    @settings(max_examples=300, deadline=None)
    @given(randoms)
    def test_they_stay_and_the_text_says_what_the_edit_said(self, source) -> None:
        before = drawn(source)
        document = tomlkit.parse(before)
        for name in source.sample(["pack", "game", "want", "hold", "feed"], source.randrange(1, 4)):
            table = document.setdefault(name, tomlkit.table())
            for number in range(source.randrange(1, 3)):
                table[f"new{number}"] = source.choice([1, "x", True])
        after = tomlkit.dumps(document)
        text = comments_in_place(before, after)
        self.assertEqual(tomllib.loads(text), tomllib.loads(after))
        kept = above_tables(text)
        for table, comments in above_tables(before).items():
            self.assertEqual(kept[table], comments, f"{before}\n=====\n{text}")

    def test_as_one_would_write_it(self) -> None:
        before = '[want]\na = "*"\n# b waits\n\n# for good\n[hold]\nx = "1"\n'
        document = tomlkit.parse(before)
        document["want"]["c"] = "*"
        self.assertEqual(
            comments_in_place(before, tomlkit.dumps(document)),
            '[want]\na = "*"\n# b waits\nc = "*"\n\n# for good\n[hold]\nx = "1"\n',
        )


if __name__ == "__main__":
    unittest.main()
