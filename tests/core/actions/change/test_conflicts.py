"""Conflicts: what is told is what is laid, by load order and by the pack's choice."""

from __future__ import annotations

import json
import os
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.archives.model import Member
from rellum.core.hashing import Digest, hash_bytes
from rellum.core.layers.contested_paths import find_conflicts
from rellum.core.layers.model import Layer, LayerFile
from rellum.core.layers.target import lay_over
from rellum.core.values.ids import ModId
from rellum.core.values.paths import MemberPath, PlacePath, TargetPath, file_of
from tests.support import NoMaker, WorldTest


def layer(mod: str, files: dict[str, str]) -> Layer:
    return Layer(
        mod=ModId(mod),
        version="1",
        files=tuple(
            LayerFile(
                path=PlacePath(f"@game/{path}"),
                archive=Digest("a" * 64),
                member=Member(
                    path=MemberPath(path),
                    size=1,
                    digest=hash_bytes(text.encode()),
                    executable=False,
                ),
            )
            for path, text in files.items()
        ),
    )


class ConflictsTest(unittest.TestCase):
    @given(
        st.lists(
            st.tuples(
                st.sampled_from(["m1", "m2", "m3"]),
                st.dictionaries(st.sampled_from("abc"), st.sampled_from("xy"), max_size=3),
            ),
            max_size=5,
        ),
        st.dictionaries(st.sampled_from("abc"), st.sampled_from(["m1", "m2", "m9"]), max_size=2),
    )
    def test_who_wins_is_who_is_laid(self, drawn, chosen) -> None:
        drawn = sorted(drawn, key=lambda each: each[0])  # a mod's parts stand together
        layers = [layer(mod, files) for mod, files in drawn]

        def winner(path: TargetPath) -> ModId | None:
            name = chosen.get(str(path)[-1])
            return ModId(name) if name else None

        target = lay_over(layers, NoMaker(), winner)
        found = find_conflicts(layers, winner)
        for each in found.conflicts:
            path = file_of(each.path)
            laid = target.files[path]
            self.assertEqual(str(laid.owner), f"{each.winner} 1")
            last = [files[path[-1]] for mod, files in drawn
                    if mod == each.winner and path[-1] in files][-1]  # fmt: skip
            assert isinstance(laid.file, LayerFile)
            self.assertEqual(laid.file.member.digest, hash_bytes(last.encode()))
            self.assertEqual(each.is_chosen, chosen.get(path[-1]) in each.mods)
        single = set(target.files) - {each.path for each in found.conflicts}
        self.assertEqual(
            sum(share.brings for share in found.shares),
            len(single) + sum(len(each.mods) for each in found.conflicts),
        )


class ConflictsCommandTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.add_release("tides", "1.0", {"data/sea.dat": b"tidal", "data/x.dat": b"same"})
        self.world.add_release(
            "swell", "1.0", {"data/sea.dat": b"swell", "data/x.dat": b"same"},
            says='load = { after = ["tides"] }',
        )  # fmt: skip
        self.make_resolved()

    def choose(self, text: str) -> None:
        with open(self.world.path("pack", "rellum.toml"), "a", encoding="utf-8") as file:
            file.write(f"\n[winner]\n{text}\n")

    def test_table_choice_and_what_is_laid(self) -> None:
        told = self.world.run("conflicts")
        self.assertRegex(told.stdout, r"data/sea.dat  swell  tides  load order\n")
        self.assertIn(
            "1 file brought by several mods with different content, 1 with the same.", told.stdout
        )
        self.world.apply()
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"swell")
        self.choose('"@data/" = "tides"')
        told = self.world.run("conflicts")
        self.assertRegex(told.stdout, r"data/sea.dat  tides  swell  the pack's choice\n")
        self.world.apply()
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"tidal")
        document = json.loads(self.world.run("conflicts", "--json").stdout)
        self.assertEqual(
            [
                (each["path"], each["winner"], each["same_content"])
                for each in document["conflicts"]
            ],
            [("@game/data/sea.dat", "tides", False), ("@game/data/x.dat", "tides", True)],
        )
        self.world.restore_all()

    def test_hidden_whole_none_and_figure(self) -> None:
        self.world.add_release(
            "lamps", "1.0", {"data/sea.dat": b"lamps"}, says='load = { at = "last" }'
        )
        self.world.take_all()
        self.world.want("lamps")
        self.world.add_release(
            "early", "1.0", {"data/sea.dat": b"early"}, says='load = { at = "first" }'
        )
        self.world.take_all()
        self.world.want("early")
        self.world.resolve()
        told = self.world.run("conflicts", "--figure", "c.svg")
        self.assertIn("early is fully hidden: other mods win all of its 1 file", told.stderr)
        self.assertTrue(os.path.getsize(self.world.path("pack", "c.svg")) > 1000)
        for mod in ("lamps", "early", "swell"):
            self.world.drop(mod)
        self.world.resolve()
        self.assertIn("No conflicts: each of the 2 files", self.world.run("conflicts").stdout)

    def test_choices_that_cannot_be(self) -> None:
        self.choose('"@nowhere/x" = "tides"')
        told = self.world.run("apply", "--yes")
        self.assertEqual(told.returncode, 2)
        self.assertIn("does not begin with a place that is known here", told.stderr)


if __name__ == "__main__":
    unittest.main()
