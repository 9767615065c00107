"""The JSON Schemas: made from the readers, as they are now; every good file passes, misspelt keys do not."""

from __future__ import annotations

import json
import os
import tempfile
import tomllib
import unittest

from rellum.core.catalog.schemas import SCHEMA_NAMES, schema_file
from rellum.demo.world import make
from tests.support import WorldTest
from tools.fuzz_toml import examples
from tools.schemas import schemas

try:
    import jsonschema
except ImportError:
    jsonschema = None  # type: ignore[assignment]


class SchemasTest(WorldTest):
    def faults(self, name: str, text: str) -> list[str]:
        with open(schema_file(name), encoding="utf-8") as file:
            checker = jsonschema.Draft202012Validator(json.load(file))
        return [error.message for error in checker.iter_errors(tomllib.loads(text))]

    def test_they_are_as_the_readers_are(self) -> None:
        made = schemas()
        self.assertEqual(set(made), set(SCHEMA_NAMES))
        for name, text in made.items():
            with open(schema_file(name), encoding="utf-8") as file:
                self.assertEqual(file.read(), text, "run: python -m tools.schemas")

    @unittest.skipUnless(jsonschema, "jsonschema is not installed")
    def test_the_examples_and_the_demo_pass(self) -> None:
        for name, content in examples().items():
            self.assertEqual(self.faults(name, content.decode()), [], name)
        with tempfile.TemporaryDirectory() as folder:
            catalog = make(os.path.join(folder, "demo")).folder("catalog")
            for kind, name in (("games", "sheet"), ("cards", "card")):
                for file in os.listdir(os.path.join(catalog, kind)):
                    with open(os.path.join(catalog, kind, file), encoding="utf-8") as stream:
                        self.assertEqual(self.faults(name, stream.read()), [], file)

    @unittest.skipUnless(jsonschema, "jsonschema is not installed")
    def test_misspelt_and_missing_keys_do_not(self) -> None:
        good = '[mod]\nid = "fog"\nname = "Fog"\n[[release]]\nversion = "1"\n'
        self.assertEqual(self.faults("card", good), [])
        for text, words in (
            (good + 'neds = { tides = "*" }', "'neds' was unexpected"),
            (good + "game = 3", "3 is not of type 'string'"),
            (good.replace('name = "Fog"\n', ""), "'name' is a required property"),
            (good + "[news]\n", "'from' is a required property"),
        ):
            with self.subTest(words):
                self.assertIn(words, " ".join(self.faults("card", text)))

    def test_what_is_written_names_its_schema(self) -> None:
        self.world.adopt()
        with open(self.world.path("pack", "rellum.toml"), encoding="utf-8") as file:
            line = file.readline()
        self.assertEqual(line, "#:schema .rellum/schemas/pack.json\n")
        self.assertTrue(os.path.isfile(self.world.path("pack", line.split()[1])))


if __name__ == "__main__":
    unittest.main()
