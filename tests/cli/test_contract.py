"""What holds for every command: documents, examples, mistakes, closed outputs, narrow tables."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.cli.app import _MEANT, _MODULES, _command
from rellum.cli.document_format import schema_file
from rellum.cli.documents.registry import DOCUMENTS
from rellum.cli.examples import EXAMPLES
from rellum.cli.tables import lay_out, width_of
from tests.support import WorldTest
from tools import man_page
from tools.document_schemas import text_of

LOOKS = (
    ("status",), ("list",), ("list", "--catalog"), ("compare", "now"), ("conflicts",), ("preview",),
    ("decide",), ("graft",), ("variant",), ("check",), ("checkpoint", "--list"), ("sweep", "--list"),
    ("kept",), ("resolve",), ("why", "tides"), ("news",), ("outlook",), ("vet",), ("shelf",),
    ("history",), ("space",), ("backup", "list"), ("identify", "../game"),
)  # fmt: skip
"""Commands that only look, in a pack that has something to show."""


class EveryCommandTest(unittest.TestCase):
    def test_each_has_a_document_with_its_schema_and_an_example_that_it_can_read(self) -> None:
        self.assertEqual(set(DOCUMENTS), set(_MODULES))
        self.assertEqual(set(EXAMPLES), set(_MODULES))
        for name in _MODULES:
            with open(schema_file(name), encoding="utf-8") as file:
                self.assertEqual(file.read(), text_of(name), "python -m tools.document_schemas")
            command = _command(name)
            self.assertIn("--json", [each for one in command.params for each in one.opts], name)
            for example in EXAMPLES[name]:
                program, called, *words = re.findall(r"'[^']*'|\S+", example)
                self.assertEqual((program, called), ("rellum", name))
                words = [word.strip("'") for word in words]
                command.make_context(name, words).close()

    def test_the_man_page_is_that_of_this_program(self) -> None:
        with open(man_page.FILE, encoding="utf-8") as file:
            self.assertEqual(file.read(), man_page.text(), "python -m tools.man_page")

    def test_words_of_newcomers_lead_to_commands_that_there_are(self) -> None:
        for word, meant in _MEANT.items():
            self.assertNotIn(word, _MODULES)
            for named in re.findall(r"rellum ([a-z]+)", meant):
                self.assertIn(named, _MODULES)


class MannersTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.add_release("tides", "1.0", {"mods/tides/a.dat": b"a", "data/sea.dat": b"sea"})
        self.world.add_release("tides", "2.0", {"mods/tides/a.dat": b"b"}, says='game = ">=9"')
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides", "=1.0")
        self.world.apply()

    def shell(self, command: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            ["sh", "-c", command.replace("rellum", f'"{sys.executable}" -m rellum')],
            cwd=self.world.path("pack"),
            env={**os.environ, "RELLUM_SHELF": self.world.path("shelf"), "PYTHONUTF8": "1"},
            capture_output=True,
            text=True,
            check=False,
        )

    def test_every_look_as_a_document_and_with_a_closed_output(self) -> None:
        for words in LOOKS:
            with self.subTest(words):
                done = self.world.run(*words, "--json")  # held against its schema
                self.assertIn(done.returncode, (0, 1), done.stderr)
                self.assertEqual(json.loads(done.stdout)["format"], 1)
        if os.name == "nt":
            self.skipTest("closed outputs are tried in a POSIX shell")
        call = "; ".join(f"rellum {' '.join(words)} >&-" for words in LOOKS)
        self.assertEqual(self.shell(call).stderr.count("Traceback"), 0)
        closed = self.shell("{ rellum list; echo $? >status; } | true; cat status")
        self.assertNotIn("Traceback", closed.stderr)
        self.assertIn(closed.stdout, ("0\n", "141\n"))

    def test_mistakes_in_the_call_are_errors_like_all_others(self) -> None:
        for words, code in (
            (("drop",), "bad-call"),
            (("apply", "--nonsense"), "bad-call"),
            (("guard", "maybe"), "bad-call"),
            (("restore", "--all"), "needs-answer"),
            (("why", "tidse"), "unknown-mod"),
        ):
            done = self.world.run(*words, "--json")
            self.assertEqual(done.returncode, 2)
            error = json.loads(done.stdout)["error"]
            self.assertEqual((error["code"], error["status"]), (code, 2))
            plain = self.world.run(*words)
            self.assertEqual(plain.returncode, 2)
            self.assertTrue(plain.stderr.startswith("error: "), plain.stderr)
            self.assertIn("hint: ", plain.stderr)
        told = self.world.run("install", "tides").stderr
        self.assertIn("'rellum want MOD'", told)
        self.assertIn("did you mean 'status'", self.world.run("Status").stderr)

    def test_words_are_completed(self) -> None:
        def found(*words: str) -> list[str]:
            return self.world.run("completion", "words", "--", *words).stdout.split()

        self.assertEqual(found("re"), ["report", "resolve", "restore", "rewind"])
        self.assertEqual(found("hold", "tides", ""), ["1.0", "2.0"])
        self.assertEqual(found("want", "t"), ["tides"])
        self.assertEqual(found("decide", "trust", ""), ["declared", "tried"])
        self.assertIn("vanilla", found("variant", "use", ""))
        self.assertIn("--newest", found("apply", "--"))
        self.assertEqual(found("why", "nothing", ""), [])
        for shell in ("bash", "zsh", "fish", "powershell"):
            script = self.world.run("completion", shell).stdout
            self.assertIn("rellum completion words", script)
            if shell == "bash" and shutil.which("bash"):
                asked = (
                    "COMP_WORDS=(rellum hold tides ''); COMP_CWORD=3; _rellum; echo ${COMPREPLY[*]}"
                )
                done = subprocess.run(
                    ["bash", "-c", f'rellum() {{ "{sys.executable}" -m rellum "$@"; }}; {script}{asked}'],
                    cwd=self.world.path("pack"), capture_output=True, text=True, check=False,
                )  # fmt: skip
                self.assertEqual(done.stdout.split(), ["1.0", "2.0"], done.stderr)

    def test_colour_is_asked_for_and_refused(self) -> None:
        self.assertNotIn("\x1b", self.shell("rellum list").stdout)
        self.assertIn("\x1b[", self.shell("CLICOLOR_FORCE=1 rellum list").stdout)
        self.assertNotIn("\x1b", self.shell("CLICOLOR_FORCE=1 NO_COLOR=1 rellum list").stdout)

    def test_decisions_are_written_read_and_taken_out_again(self) -> None:
        with open(self.world.path("pack", "rellum.toml"), "a", encoding="utf-8") as file:
            file.write("# mine\n")
        before = self.text()
        decided = (
            ("winner", "data/sea.dat", "tides"), ("settings", "@data/sea.ini", "mine"),
            ("nested", "mods/tides", "once"), ("trust", "tried"), ("game-range", ">=1.5, <2"),
            ("variable", "harbour", "north"), ("source", "../downloads"), ("look-at", "the sea"),
            ("profile", "storm"),
        )  # fmt: skip
        for words in decided:
            self.assertEqual(self.world.run("decide", *words, "--json").returncode, 0, words)
        told = json.loads(self.world.run("decide", "--json").stdout)["decisions"]
        for kind, *rest in decided:
            self.assertIn((kind, rest[-1]), [(each["kind"], each["value"]) for each in told])
        self.assertIn("# mine", self.text())
        for kind, *rest in decided:
            is_list = kind in ("source", "look-at")
            key = rest if len(rest) == 1 and is_list else rest[:-1]
            done = self.world.run("decide", kind, *key, "--off")
            self.assertEqual(done.returncode, 0, done.stderr)
        empty = ("sources = []", "look-at = []")
        after = [line for line in self.text().split("\n") if line and line not in empty]
        self.assertEqual(after, [line for line in before.split("\n") if line])
        refused = self.world.run("decide", "settings", "a.ini", "perhaps")
        self.assertEqual(refused.returncode, 2)
        self.assertIn("'perhaps' is not mine or theirs", refused.stderr)

    def text(self) -> str:
        with open(self.world.path("pack", "rellum.toml"), encoding="utf-8") as file:
            return file.read()


WORDS = st.text(st.sampled_from("abcdef-0123456789"), min_size=1, max_size=12)
CELLS = st.lists(WORDS, max_size=8).map(" ".join)


class TableTest(unittest.TestCase):
    @settings(deadline=None, max_examples=300)
    @given(st.data(), st.integers(1, 6), st.integers(1, 6), st.sampled_from((60, 80, 100, 140)))
    def test_words_stay_whole_and_lines_fit(
        self, data: st.DataObject, columns: int, height: int, room: int
    ) -> None:
        headings = [f"head{number}" for number in range(columns)]
        right = data.draw(st.sets(st.integers(1, 5)).map(lambda each: each - {0}))
        row = st.tuples(*[WORDS if n in right else CELLS for n in range(columns)])
        rows = data.draw(st.lists(row, min_size=height, max_size=height))
        layout = lay_out(headings, rows, sorted(right), room)
        self.assertEqual(len(layout.rows), height)
        for cells, lines in zip(rows, layout.rows, strict=True):
            self.assertLessEqual(max(map(width_of, lines), default=0), room)
            found = " ".join(lines).split()
            for word in " ".join(cells).split():
                self.assertIn(word, found)


if __name__ == "__main__":
    unittest.main()
