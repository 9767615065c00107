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
