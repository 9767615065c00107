"""Commands that write into rellum.toml and trials.toml: what stands there stays."""

from __future__ import annotations

import os
import unittest

from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.tables import FileFaults
from rellum.core.pack.home import PackHome
from rellum.core.pack.pack_edits import remove_hold, remove_want, set_hold, set_want
from rellum.core.pack.pack_file import WantLine, read_pack_file
from rellum.core.pack.trials_file import add_trial, read_pack_trials
from rellum.core.values.ids import ModId
from tests.support import WorldTest, write_tree

PACK = """\
# mine
[pack]
name = "p"   # a name
trust = "tried"

[want]
tides = ">=3"   # the newest
# between
flags = { range = "*", optional = true, options = { cloth = "silk", knots = ["a", "b"] } }
"""


class EditsTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.home = PackHome(self.world.path("pack"))
        write_tree(self.home.folder, {"rellum.toml": PACK.encode()})

    def text(self) -> str:
        with open(self.home.pack_file, encoding="utf-8") as file:
            return file.read()

    def line(self, mod: str, text: str, **said) -> WantLine:
        return WantLine(mod=ModId(mod), range_text=text, source=Source("x"), **said)

    def test_wants_are_read_as_they_are_written(self) -> None:
        pack = read_pack_file(self.home)
        self.assertEqual(pack.trust, "tried")
        tides, flags = pack.wants
        self.assertEqual((tides.range_text, tides.optional, tides.options), (">=3", False, ()))
        self.assertTrue(flags.optional)
        self.assertEqual(dict(flags.options), {"cloth": ("silk",), "knots": ("a", "b")})
        for mod in (tides, flags):
            set_want(
                self.home,
                self.line(mod.mod, "<9", optional=mod.optional, options=mod.options),
            )
        again = read_pack_file(self.home).wants
        self.assertEqual([each.range_text for each in again], ["<9", "<9"])
        self.assertEqual([each.options for each in again], [(), flags.options])

    def test_comments_and_order_stay(self) -> None:
        set_want(self.home, self.line("bells", "*"))
        set_hold(self.home, "keel", "2.4", "3.0 leaks")
        remove_want(self.home, "tides")
        text = self.text()
        for kept in ("# mine", "# a name", "# between"):
            self.assertIn(kept, text)
        pack = read_pack_file(self.home)
        self.assertEqual([want.mod for want in pack.wants], ["flags", "bells"])
        self.assertEqual([(h.mod, h.reason) for h in pack.holds], [("keel", "3.0 leaks")])
        remove_hold(self.home, "keel")
        self.assertEqual(read_pack_file(self.home).holds, ())

    def test_mistakes_are_located(self) -> None:
        wrong = PACK.replace('"tried"', '"blind"').replace("true", '"yes"').replace('"silk"', "3")
        write_tree(self.home.folder, {"rellum.toml": wrong.encode()})
        with self.assertRaises(FileFaults) as caught:
            read_pack_file(self.home)
        told = "\n".join(caught.exception.details)
        for words in ("rellum.toml:4: pack.trust", "rellum.toml:9: want.flags.optional", "cloth"):
            self.assertIn(words, told)

    def test_trials_are_added_at_the_end(self) -> None:
        mine = b'# my notes\n[[trial]]\noutcome = "works"\ngame = "1.6"\ndate = "2026-01-02"\n' \
               b'releases = { tides = "3" }'  # fmt: skip
        write_tree(self.home.folder, {"trials.toml": mine})
        for note in ('say "aye"\n\\', ""):
            add_trial(
                self.home,
                outcome="breaks",
                game="1.7.0",
                date="2026-05-01",
                releases=[(ModId("tides"), "Spring Tide"), (ModId("keel"), "2.4")],
                note=note,
            )
        with open(self.home.trials_file, "rb") as file:
            self.assertTrue(file.read().startswith(mine))
        first, second, third = read_pack_trials(self.home)
        self.assertEqual((first.outcome, first.date), ("works", "2026-01-02"))
        self.assertEqual((second.note, third.note), ('say "aye"\n\\', ""))
        self.assertEqual(second.releases, (("tides", "Spring Tide"), ("keel", "2.4")))
        self.assertEqual(str(third), "breaks on game 1.7.0, tried 2026-05-01")
        os.unlink(self.home.trials_file)
        self.assertEqual(read_pack_trials(self.home), ())


if __name__ == "__main__":
    unittest.main()
