"""Make the JSON Schemas of sheet, card, trials and pack again: ``python -m tools.schemas``.

They come from the functions that read these files: while those read the examples of docs/files.md, which have
every key, each key that they ask for is noted with the kind of value that they take there.
"""

from __future__ import annotations

import json
import os
import re
import sys
import tempfile
import tomllib
from collections import defaultdict
from collections.abc import Callable, Iterator
from typing import Any
from unittest import mock

from rellum.core.catalog import cards, sheets, tables, trials
from rellum.core.catalog.schemas import SCHEMA_NAMES, schema_file
from rellum.core.pack import pack_file
from rellum.core.pack.home import PackHome
from tools.fuzz_toml import examples

Path = tuple[str, ...]
ANY = "*"
"""Stands for a name that the writer of a file chooses."""

TITLES = {
    "sheet": "A game sheet of Rellum",
    "card": "A card of Rellum: a mod and its releases",
    "trials": "Trials of Rellum",
    "pack": "rellum.toml, a pack of Rellum",
}


class Notes:
    """The keys that were asked for, by the table that they stand in, with the kinds of their values."""

    def __init__(self) -> None:
        self.kinds: dict[Path, dict[str, set[str]]] = defaultdict(lambda: defaultdict(set))
        self.free: set[Path] = set()
        self.tables: dict[Path, set[tuple[str | int, ...]]] = defaultdict(set)
        self.needed: dict[tuple[Path, str], set[tuple[str | int, ...]]] = defaultdict(set)

    def path(self, keys: tuple[str | int, ...]) -> Path:
        found: Path = ()
        for key in keys:
            if isinstance(key, str):
                found = (*found, ANY if found in self.free else key)
        return found

    def note(
        self, keys: tuple[str | int, ...], key: str, kind: str, *, required: bool = False
    ) -> None:
        path = self.path(keys)
        name = ANY if path in self.free else key
        self.kinds[path][name].add(kind)
        self.tables[path].add(keys)
        if required:
            self.needed[path, name].add(keys)

    def schema(self, path: Path = ()) -> dict[str, Any]:
        """Return the schema of a table."""
        keys = {name: self._value((*path, name), kinds) for name, kinds in self.kinds[path].items()}
        found: dict[str, Any] = {"type": "object"}
        if named := {name: keys[name] for name in sorted(keys) if name != ANY}:
            found["properties"] = named
        found["additionalProperties"] = keys.get(ANY, path in self.free)
        always = [name for name in named if self.needed[path, name] == self.tables[path]]
        if always:
            found["required"] = always
        return found

    def _value(self, path: Path, kinds: set[str]) -> dict[str, Any]:
        if "any" in kinds:
            return {}
        forms = [self._form(path, kind) for kind in sorted(kinds)]
        return forms[0] if len(forms) == 1 else {"anyOf": forms}

    def _form(self, path: Path, kind: str) -> dict[str, Any]:
        if kind == "table":
            return self.schema(path)
        if kind == "tables":
            return {"type": "array", "items": self.schema(path)}
        if kind == "texts":
            return {"type": "array", "items": {"type": "string"}}
        return {"type": kind}


def recorder(notes: Notes) -> type[tables.TableReader]:
    """Return a reader of tables that notes what is asked of it."""

    class Recorder(tables.TableReader):
        def _note(self, key: str, kind: str, *, required: bool = False) -> None:
            notes.note(self.source.key, key, kind, required=required)

        def value(self, key: str) -> object:
            self._note(key, "any")
            return super().value(key)

        def names(self) -> Iterator[str]:
            notes.free.add(notes.path(self.source.key))
            return super().names()

        def text(self, key: str, example: str, *, required: bool = False) -> str | None:
            self._note(key, "string", required=required)
            return super().text(key, example, required=required)

        def integer(self, key: str, example: int) -> int | None:
            self._note(key, "integer")
            return super().integer(key, example)

        def flag(self, key: str) -> bool:
            self._note(key, "boolean")
            return super().flag(key)

        def texts(self, key: str, example: str) -> tuple[str, ...]:
            self._note(key, "texts")
            return super().texts(key, example)

        def table(self, key: str, *, required: bool = False) -> tables.TableReader:
            self._note(key, "table", required=required)
            return super().table(key, required=required)

        def tables(self, key: str) -> list[tables.TableReader]:
            self._note(key, "tables")
            return super().tables(key)

    return Recorder


EXAMPLES = examples()
NOTED: list[tables.Fault] = []
SHEET = sheets.read_sheet(tomllib.loads(EXAMPLES["sheet"].decode()), "sheet.toml", NOTED)

MORE = {
    "sheet": (
        """
[game]
id = "more"
name = "More"
marks = ["@game/more"]
[[self-description]]
file = "a.json"
form = "json"
id = ["id"]
licence = ["licence"]
[[self-description.needs]]
at = ["needs"]
range = "min"
[[self-description.clashes]]
at = ["clashes"]
id = ["mod"]
range = "min"
[[self-description.clashes]]
at = ["clashes"]
id = "mod"
range = ["min"]
[[self-description.load-after]]
at = ["after"]
id = ["mod"]
range = "min"
[[self-description.load-after]]
at = ["after"]
id = "mod"
range = ["min"]
[[self-description.game]]
at = ["game"]
id = "x"
range = ["min"]
pattern = "(?P<range>.+)"
""",
    ),
    "card": (
        """
[mod]
id = "more"
name = "More"
[[release]]
version = "1"
clashes = { fog = "*" }
[[release.file]]
name = "more.zip"
blake3 = "HASH"
[[release.place]]
to = "@game/"
[[option]]
id = "colours"
pick = "any"
default = ["red"]
[[option.choice]]
id = "red"
needs-one-of = [{ fog = "*" }]
clashes = { fog = { range = "*", reason = "both are red" } }
""".replace("HASH", "0" * 64),
    ),
    "pack": (
        """
[want]
fog = { range = "*", options = { colours = ["red", "blue"] } }
""",
    ),
}
"""Other ways to write what the examples have in one way only."""


def schemas() -> dict[str, str]:
    """Return each schema as text, by its name."""
    found = {}
    for name, read in READERS.items():
        notes = Notes()
        reader = recorder(notes)
        with (
            mock.patch.object(cards, "TableReader", reader),
            mock.patch.object(sheets, "TableReader", reader),
            mock.patch.object(trials, "TableReader", reader),
            mock.patch.object(pack_file, "TableReader", reader),
            mock.patch.object(tables, "TableReader", reader),
            tempfile.TemporaryDirectory() as folder,
        ):
            for content in (EXAMPLES[name], *map(str.encode, MORE.get(name, ()))):
                read(content, folder)
        document = {
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "title": TITLES[name],
            **notes.schema(),
        }
        found[name] = json.dumps(document, indent=1, ensure_ascii=False) + "\n"
    return found


def _read_sheet(content: bytes, _: str) -> None:
    faults: list[tables.Fault] = []
    sheets.read_sheet(tomllib.loads(content.decode()), "sheet.toml", faults)
    assert not faults, faults


def _read_card(content: bytes, _: str) -> None:
    faults: list[tables.Fault] = []
    assert SHEET is not None, NOTED
    cards.read_card(tomllib.loads(content.decode()), "card.toml", SHEET.places, {}, faults)
    assert not faults, faults


def _read_trials(content: bytes, folder: str) -> None:
    file = os.path.join(folder, "trials.toml")
    with open(file, "wb") as stream:
        stream.write(content)
    faults: list[str] = []
    trials.read_trials(file, faults)
    assert not faults, faults


def _read_pack(content: bytes, folder: str) -> None:
    home = PackHome(folder)
    with open(home.pack_file, "wb") as stream:
        stream.write(content)
    pack_file.read_pack_file(home)


READERS: dict[str, Callable[[bytes, str], None]] = {
    "sheet": _read_sheet,
    "card": _read_card,
    "trials": _read_trials,
    "pack": _read_pack,
}


def main() -> int:
    """Write the schemas into the package."""
    for name, text in schemas().items():
        with open(schema_file(name), "w", encoding="utf-8") as file:
            file.write(text)
        print(re.sub(r"^.*/src/", "src/", schema_file(name)))
    assert set(READERS) == set(SCHEMA_NAMES)
    return 0


if __name__ == "__main__":
    sys.exit(main())
