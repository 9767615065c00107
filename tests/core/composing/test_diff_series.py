"""A diff over a folder: what it gives is what the tree that it was made of is."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import unittest

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rellum.core.errors import UserError
from tests.support import VANILLA, World, WorldTest, snapshot, write_tree

NAMES = st.sampled_from(["a.txt", "b.ini", "deep/c.txt", "deep/er/d é.txt", "x/new.txt"])
TEXTS = st.lists(
    st.sampled_from([b"one\n", b"two\n", b"three\n", b"\xe9\n"]), min_size=1, max_size=9
)
TREES = st.dictionaries(NAMES, TEXTS.map(b"".join), max_size=5)
BARE = {path: content for path, content in VANILLA.items() if not path.startswith("data/")}
PLACE = (
    'folder = true\nto = "@data/keep"\n[[release.edit]]\nfolder = "@data/"\nby = "diff"\n'
    'with = "p/all.diff"\nstrip = 1'
)


def diff_of(folder: str, before: dict[str, bytes], after: dict[str, bytes], tool: str) -> bytes:
    for name, tree in (("a", before), ("b", after)):
        os.makedirs(os.path.join(folder, name))
        write_tree(os.path.join(folder, name), tree)
    command = {
        "diff": ["diff", "-urN", "a", "b"],
        "git": ["git", "diff", "--no-index", "--no-renames", "--text", "--no-prefix", "a", "b"],
    }[tool]
    result = subprocess.run(command, cwd=folder, capture_output=True, check=False)
    return result.stdout


def data_of(world: World) -> dict[str, bytes]:
    found = snapshot(world.path("game", "data")).items()
    return {path: each.content for path, each in found if each.content is not None}


class DiffSeriesTest(WorldTest):
    @settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(TREES, TREES, st.sampled_from(["diff", "git"]))
    def test_it_gives_the_other_tree_and_goes_again(self, before, after, tool) -> None:
        if before == after or not shutil.which(tool):
            return
        with tempfile.TemporaryDirectory() as folder:
            diff = diff_of(folder, before, after, tool)
            world = World(folder, {**BARE, **{f"data/{n}": c for n, c in before.items()}})
            world.add_release("tides", "1.0", {"p/all.diff": diff}, place=PLACE)
            world.adopt()
            world.take_all()
            world.want("tides")
            world.resolve()
            world.apply()
            self.assertEqual(data_of(world), after)
            self.assertEqual(world.check(deep=True).findings, ())
            world.restore_all()
            self.assertEqual(data_of(world), before)

    def refused(self, diff: bytes, words: str, place: str = PLACE) -> None:
        world = World(tempfile.mkdtemp(dir=self.world.root))
        world.add_release("tides", "1.0", {"p/all.diff": diff}, place=place)
        world.adopt()
        world.take_all()
        world.want("tides")
        world.resolve()
        with self.assertRaisesRegex(UserError, words):
            world.apply()

    def test_what_is_refused(self) -> None:
        change = b"--- a/%s\n+++ b/%s\n@@ -1 +1 @@\n-x\n+y\n"
        self.refused(change % (b"no.txt", b"no.txt"), "there is no file data/no.txt to edit")
        self.refused(change % (b"../no", b"../no"), "it leaves its place")
        self.refused(change % (b"n", b"n"), "'b/n' does not lie in 3 folders",
                     PLACE.replace("strip = 1", "strip = 3"))  # fmt: skip
        self.refused(b"rename from a\n" + change % (b"a", b"a"), r"all.diff .*:1: 'rename from a'")
        self.refused(b"Binary files a/x and b/x differ\n", "is not read here")
        self.refused(b"new file mode 100644\n" + change % (b"a", b"a"), "an empty file")
        made = b"--- /dev/null\n+++ b/sea.dat\n@@ -0,0 +1 @@\n+y\n"
        self.refused(made, "makes data/sea.dat, which is there already")
        gone = b"--- a/sea.dat\n+++ /dev/null\n@@ -1 +0,0 @@\n-never there\n"
        self.refused(gone, "sea.dat")

    def test_cards_that_are_wrong(self) -> None:
        for edit, words in (
            (
                'file = "@data/x"\nby = "diff"\nwith = "p"\nstrip = 1',
                "only for a diff over a 'folder'",
            ),
            ('folder = "@data/"\nby = "vcdiff"\nwith = "p"', "an edit of a folder is a diff"),
            ('folder = "@data/"\nby = "diff"\nwith = "p"\nfile = "@data/x"', "not with 'folder'"),
        ):
            self.world.add_release(
                "tides", "1.0", {"p": b""}, place=f'to = "@data/"\n[[release.edit]]\n{edit}'
            )
            result = self.world.run("vet", self.world.path("catalog"))
            self.assertEqual(result.returncode, 1, result.stdout)
            self.assertIn(words, result.stdout + result.stderr)
            self.world.cards.clear()


if __name__ == "__main__":
    unittest.main()
