"""What the code must keep to: the direction of imports, the codes of errors, a fast way up."""

from __future__ import annotations

import ast
import functools
import graphlib
import importlib
import importlib.util
import os
import pkgutil
import re
import subprocess
import sys
import unittest
from collections import Counter

import rellum
from rellum.cli.app import GROUPS
from rellum.core.errors import all_errors

SOURCE = os.path.dirname(rellum.__file__)
DOCS = os.path.join(os.path.dirname(os.path.dirname(SOURCE)), "docs")

# Each may import those before it, and itself.
LAYERS = (
    "versions", "patching", "catalog", "solving", "hunting", "archives", "shelf", "fetching", "feed",
    "layers", "folder", "describing", "pack", "composing", "change", "actions",
)  # fmt: skip
# Values of a later layer that an earlier one may name; pure values, no code that acts.
ALLOWED: set[tuple[str, str]] = set()
PURE = (
    "core.versions.",
    "core.solving.",
    "core.hunting.",
    "core.layers.",
    "core.change.planning",
    "core.change.operations",
)
"""What computes from values alone: it asks neither the disk, nor a database, nor the clock."""
OUTSIDE_WORLD = {"os", "sqlite3", "time", "shutil", "pathlib", "tempfile", "datetime", "subprocess"}
FORBIDDEN_IN_CORE = {"typer", "rich", "matplotlib", "numpy", "pandas", "click"}


@functools.cache
def modules() -> list[str]:
    return [each.name for each in pkgutil.walk_packages([SOURCE], "rellum.")]


@functools.cache
def imports_of(name: str) -> frozenset[str]:
    """Return the modules that a module imports anywhere, also for types alone or inside a function."""
    spec = importlib.util.find_spec(name)
    assert spec and spec.origin
    with open(spec.origin, encoding="utf-8") as file:
        tree = ast.parse(file.read())
    found = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            for alias in node.names:
                submodule = f"{node.module}.{alias.name}"
                found.add(submodule if submodule in modules() else node.module)
    return frozenset(found)


class LayeringTest(unittest.TestCase):
    def test_imports_run_one_way(self) -> None:
        for name in modules():
            if not name.startswith("rellum.core."):
                continue
            own = name.split(".")[2]
            for other in imports_of(name):
                self.assertNotIn(other.split(".")[0], FORBIDDEN_IN_CORE, f"{name} imports {other}")
                self.assertFalse(
                    other.startswith(("rellum.cli", "rellum.demo")), f"{name}: {other}"
                )
                if not other.startswith("rellum.core.") or other.split(".")[2] not in LAYERS:
                    continue
                layer = other.split(".")[2]
                self.assertIn(own, LAYERS, f"{name} is below all layers and imports {other}")
                if (own, layer) not in ALLOWED:
                    self.assertLessEqual(
                        LAYERS.index(layer), LAYERS.index(own), f"{name} imports {other}"
                    )

    def test_files_import_in_no_circle(self) -> None:
        graph = {name: set(imports_of(name)) - {name} for name in modules()}
        try:
            graphlib.TopologicalSorter(graph).prepare()
        except graphlib.CycleError as error:
            self.fail(f"a circle of imports: {error.args[1]}")

    def test_what_is_pure_asks_nothing_outside(self) -> None:
        pure = [name for name in modules() if name.removeprefix("rellum.").startswith(PURE)]
        self.assertGreater(len(pure), 20)
        for name in pure:
            self.assertEqual(imports_of(name) & OUTSIDE_WORLD, set(), name)

    def test_patterns_over_the_game_know_how_it_compares_paths(self) -> None:
        users = [each for each in modules() if self._uses_any_test(each)]
        self.assertEqual(users, ["rellum.core.globs", "rellum.core.values.path_rules"])

    @staticmethod
    def _uses_any_test(name: str) -> bool:
        spec = importlib.util.find_spec(name)
        assert spec and spec.origin
        with open(spec.origin, encoding="utf-8") as file:
            return "any_test" in file.read()

    def test_no_two_modules_have_one_name(self) -> None:
        """Actions are called as their commands; any other name means one thing."""
        names = Counter(
            each.rpartition(".")[2]
            for each in modules()
            if each.startswith("rellum.core.") and ".actions." not in each
        )
        twice = {name for name, count in names.items() if count > 1}
        self.assertEqual(twice - {"model"}, set())

    def test_the_core_prints_nothing(self) -> None:
        for name in modules():
            if name.startswith("rellum.core"):
                spec = importlib.util.find_spec(name)
                assert spec and spec.origin
                with open(spec.origin, encoding="utf-8") as file:
                    self.assertNotIn("print(", file.read(), name)

    def test_files_stay_small(self) -> None:
        for name in modules():
            spec = importlib.util.find_spec(name)
            assert spec and spec.origin
            with open(spec.origin, encoding="utf-8") as file:
                self.assertLessEqual(sum(1 for _ in file), 450, name)

    def test_nothing_slow_is_imported_on_the_way_up(self) -> None:
        program = (
            "import sys, rellum.cli.app;"
            "print([n for n in ('rich', 'pydantic', 'tomlkit', 'numpy', 'matplotlib', 'requests',"
            " 'platformdirs', 'regex', 'sqlite3', 'tomllib') if n in sys.modules])"
        )
        result = subprocess.run(
            [sys.executable, "-c", program], capture_output=True, text=True, check=True
        )
        self.assertEqual(result.stdout.strip(), "[]")


class DocumentsTest(unittest.TestCase):
    def test_links_lead_somewhere(self) -> None:
        root = os.path.dirname(DOCS)
        pages = [os.path.join(root, name) for name in os.listdir(root) if name.endswith(".md")]
        pages += [os.path.join(DOCS, name) for name in os.listdir(DOCS) if name.endswith(".md")]
        inside = os.path.join(DOCS, "inside")
        pages += [os.path.join(inside, name) for name in os.listdir(inside)]
        pages.append(os.path.join(root, "benchmarks", "README.md"))
        for page in pages:
            with open(page, encoding="utf-8") as file:
                for link in re.findall(r"\]\(([^)#:]+)\)", file.read()):
                    target = os.path.join(os.path.dirname(page), link)
                    self.assertTrue(os.path.exists(target), f"{page} links to {link}")

    def test_the_guide_names_every_command(self) -> None:
        with open(os.path.join(DOCS, "reference.md"), encoding="utf-8") as file:
            guide = file.read()
        for rows in GROUPS.values():
            for name, _, _ in rows:
                self.assertRegex(guide, rf"`(rellum )?{name}\b", f"docs/reference.md on {name}")


class ErrorsTest(unittest.TestCase):
    def setUp(self) -> None:
        for name in modules():
            if not name.endswith("__main__") and "game_files" not in name:
                importlib.import_module(name)

    def test_codes_are_unique_and_listed(self) -> None:
        errors = list(all_errors())
        codes = [each.code for each in errors]
        self.assertEqual(len(codes), len(set(codes)))
        with open(os.path.join(DOCS, "errors.md"), encoding="utf-8") as file:
            page = file.read()
        for each in errors:
            row = f"| `{each.code}` | {each.exit_status} | {(each.__doc__ or '').splitlines()[0]} |"
            self.assertIn(row, page)
        self.assertEqual(page.count("\n| `"), len(errors))


if __name__ == "__main__":
    unittest.main()
