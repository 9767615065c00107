"""rellum.toml keeps comments and order; rellum.lock is deterministic and reads back as written."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.catalog.release_rules import ReleaseFile, Source
from rellum.core.catalog.tables import FileFaults
from rellum.core.pack.home import PackHome
from rellum.core.pack.lock_file import LockedRelease, LockFile, lock_text, read_lock, write_lock
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.values.ids import ModId, SheetId
from rellum.core.versions.orderings import parse_version
from tests.support import WorldTest, write_tree

HAND_MADE = """\
# my pack
[pack]
name = "north"   # a comment

[want]
zebra = "*"      # first, for a reason
tides = "1.0"

[hold.tides]
version = "1.0"
reason = "the newer one leaks"
"""


class PackFileTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.add_release("tides", "1.0", {"a": b"a"})
        self.world.add_release("tides", "2.0", {"a": b"b"})
        self.home = PackHome(self.world.path("pack"))

    def text(self) -> str:
        with open(self.home.pack_file, encoding="utf-8") as file:
            return file.read()

    def test_commands_keep_comments_and_order(self) -> None:
        write_tree(self.home.folder, {"rellum.toml": HAND_MADE.encode()})
        self.world.adopt()
        self.world.want("tides", ">=1")
        text = self.text()
        self.assertIn('# my pack\n[pack]\nname = "north"   # a comment', text)
        self.assertIn('zebra = "*"      # first, for a reason\ntides = ">=1"', text)
        self.assertIn('folder = "../game"', text)
        self.world.drop("tides")
        self.assertNotIn('tides = ">=1"', self.text())
        pack = read_pack_file(self.home)
        self.assertEqual([want.mod for want in pack.wants], ["zebra"])
        self.assertEqual([hold.reason for hold in pack.holds], ["the newer one leaks"])

    def test_a_hold_pins_the_release(self) -> None:
        self.world.adopt()
        self.world.want("tides")
        self.assertEqual(self.world.resolve().lock.releases[0].version, "2.0")
        with open(self.home.pack_file, "a", encoding="utf-8") as file:
            file.write('\n[hold]\ntides = { version = "1.0", reason = "leaks" }\n')
        self.assertEqual(self.world.resolve().lock.releases[0].version, "1.0")

    def test_resolving_again_changes_nothing(self) -> None:
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides")
        self.assertTrue(self.world.resolve().changed)
        self.assertFalse(self.world.resolve().changed)


texts = st.text(st.characters(blacklist_categories=["Cs"]), min_size=1, max_size=12).filter(
    str.strip
)
digests = st.one_of(st.none(), st.integers(0, 1 << 255).map(lambda n: f"{n:064x}"))
files = st.builds(
    ReleaseFile,
    name=texts,
    size=st.one_of(st.none(), st.integers(0, 1 << 50)),
    sha256=digests,
    blake3=digests,
    urls=st.just(()),
    by_hand=st.just(""),
)
ids = st.sampled_from(["tides", "keelson-2", "a"]).map(ModId)
locks = st.builds(
    LockFile,
    asked=st.just("a" * 32),
    sheet=st.just(SheetId("fathomline")),
    game_version=st.just(parse_version("1.6.0")),
    edition=st.one_of(st.none(), texts),
    expansions=st.lists(texts, max_size=2).map(tuple),
    releases=st.lists(
        st.builds(
            LockedRelease,
            mod=ids,
            version=st.sampled_from(["1.0", "3.2.4", "Spring Tide"]),
            build=st.sampled_from(["", "harbour"]),
            options=st.sampled_from([(), (("quality", ("high",)), ("sounds", ()))]),
            trial=st.sampled_from(["", "works on game 1.7.0"]),
            because=st.lists(ids, max_size=2).map(tuple),
            files=st.lists(files, max_size=2).map(tuple),
            source=st.just(Source(file="x")),
        ),
        max_size=3,
    ).map(tuple),
)


class LockFileTest(WorldTest):
    @given(locks)
    def test_reads_back_as_written(self, lock) -> None:
        home = PackHome(self.world.path("pack"))
        write_lock(home, lock)
        self.assertEqual(lock_text(read_lock(home)), lock_text(lock))
        self.assertFalse(write_lock(home, lock))

    def test_faults_are_located(self) -> None:
        home = PackHome(self.world.path("pack"))
        write_tree(home.folder, {"rellum.lock": b'format = 2\n[game]\nsheet = "f"\nversion = 1\n'})
        with self.assertRaises(FileFaults) as caught:
            read_lock(home)
        self.assertRegex(
            "\n".join(caught.exception.details), r"rellum\.lock:1: format: (.|\n)*:4: "
        )


if __name__ == "__main__":
    unittest.main()
