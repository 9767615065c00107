"""What README and guide show is what one types, and what comes back."""

from __future__ import annotations

import os
import re
import shlex
import tempfile
import unittest

from rellum.cli.app import _MODULES, _command
from tests.support import memory_folder
from tools.guide_outputs import GUIDE, Story, blocks, fits

ROOT = os.path.dirname(os.path.dirname(GUIDE))
REFERENCE = ("README.md", "docs/reference.md", "docs/from-nothing.md", "docs/files.md")


class GuideTest(unittest.TestCase):
    @unittest.skipIf(os.name == "nt", "the guide is told in a POSIX shell")
    def test_every_command_of_the_guide_says_what_is_shown(self) -> None:
        with open(GUIDE, encoding="utf-8") as file:
            shown = list(blocks(file.read()))
        folder = self.enterContext(tempfile.TemporaryDirectory(dir=memory_folder()))
        story = Story(folder)
        for block in shown:
            for each in block:
                told = story.run(each.command)
                self.assertTrue(
                    fits(each.lines, told),
                    "\n".join((f"python -m tools.guide_outputs: $ {each.command}", *told)),
                )

    @unittest.skipIf(os.name == "nt", "the tour is told in a POSIX shell")
    def test_the_tour_of_the_readme_runs(self) -> None:
        with open(os.path.join(ROOT, "README.md"), encoding="utf-8") as file:
            tour = (
                file.read()
                .partition("## A tour")[2]
                .partition("```console\n")[2]
                .partition("```")[0]
            )
        folder = self.enterContext(tempfile.TemporaryDirectory(dir=memory_folder()))
        story = Story(folder)
        story.run(
            "rellum decide place settings ../player/settings"
        )  # refused: there is no pack yet
        count = 0
        for line in re.findall(r"^(rellum .+?)(?: +#.*)?$", tour, re.MULTILINE):
            for call in line.split(" && "):
                if "apply" in call or "back" in call or "sweep" in call or "variant use" in call:
                    call += " --yes"
                if call == "rellum fetch":
                    call += " --tries 1"  # nobody serves the files here
                told = "\n".join(story.run(call))
                self.assertNotIn("Traceback", told, call)
                self.assertNotIn("no such option", told, call)
                if call == "rellum adopt ../game":
                    story.run("rellum decide place settings ../player/settings")
                count += 1
        self.assertGreater(count, 25)

    def test_every_call_that_is_named_can_be_read(self) -> None:
        count = 0
        for name in REFERENCE:
            with open(os.path.join(ROOT, name), encoding="utf-8") as file:
                text = file.read()
            for block in re.findall(
                r"^```(?:console|sh)?\n(.*?)^```$", text, re.MULTILINE | re.DOTALL
            ):
                for line in re.findall(r"^(?:\$ )?(rellum .+?)(?: +#.*)?$", block, re.MULTILINE):
                    for call in line.split(" && "):
                        count += self.read(call, name)
        self.assertGreater(count, 30)

    def read(self, call: str, where: str) -> int:
        _, command, *words = shlex.split(call)
        self.assertIn(command, _MODULES, where)
        _command(command).make_context(command, words).close()
        return 1


if __name__ == "__main__":
    unittest.main()
