"""A release that can be had in full or by patches: the way with the fewest bytes to fetch is taken."""

from __future__ import annotations

import hashlib
import os
import unittest

from rellum.core.change.request import Request
from rellum.core.composing.needed import MissingArchives
from rellum.core.shelf.store import Shelf
from tests.support import WorldTest, zip_bytes

BIG = os.urandom(5000)


class ChainsTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        place = 'to = "@mods/t/"'
        self.world.add_release("tides", "3.2", {"a.dat": BIG, "b.dat": b"old"}, place=place)
        whole = zip_bytes({"a.dat": BIG, "b.dat": b"new", "c.dat": b"c"})
        with open(self.world.path("downloads", "tides-3.4-full.zip"), "wb") as file:
            file.write(whole)
        full = (
            f'[[release.full.file]]\nname = "tides-3.4-full.zip"\nsize = {len(whole)}\n'
            f'sha256 = "{hashlib.sha256(whole).hexdigest()}"\n[[release.full.place]]\n{place}'
        )
        self.world.add_release("tides", "3.4", {"b.dat": b"new", "c.dat": b"c"},
                               says='patches = "3.2"', place=f"{place}\n{full}")  # fmt: skip
        self.world.add_release(
            "tides", "3.5", {"c.dat": b"c5"}, says='patches = "3.4"', place=place
        )
        self.files = {
            name: self.world.path("downloads", name)
            for name in os.listdir(self.world.path("downloads"))
        }
        self.world.adopt()
        self.world.want("tides")

    def give(self, *names: str) -> None:
        from rellum.core.actions.gather.take import take

        take(
            Request(pack_folder=self.world.path("pack"), shelf_folder=self.world.path("shelf")),
            [self.files[name] for name in names],
        )

    def missing(self) -> set[str]:
        self.world.resolve(fresh=True)
        with self.assertRaises(MissingArchives) as caught:
            self.world.apply()
        return {detail.split()[0] for detail in caught.exception.details}

    def laid(self) -> dict[str, bytes | None]:
        return {
            path[7:]: each.content
            for path, each in self.world.game().items()
            if path.startswith("mods/t/") and each.content is not None
        }

    def test_the_fewest_bytes(self) -> None:
        # Nothing is here: the full 3.4 and a patch are less than the full 3.2 and two patches.
        self.assertEqual(self.missing(), {"tides-3.4-full.zip", "tides-3.5.zip"})
        self.give("tides-3.2.zip")
        self.assertEqual(self.missing(), {"tides-3.4.zip", "tides-3.5.zip"})
        self.give("tides-3.5.zip", "tides-3.4-full.zip")
        self.assertIn(
            "tides 3.5 is installed as 3.4 in full, then patch 3.5",
            self.world.run("preview").stdout,
        )
        self.world.apply()
        expected = {"a.dat": BIG, "b.dat": b"new", "c.dat": b"c5"}
        self.assertEqual(self.laid(), expected)
        # Either way gives the same files, so that nothing is to do when the other is there as well.
        self.give("tides-3.4.zip")
        self.assertTrue(self.world.apply().preview.plan.is_empty)
        self.world.want("tides", "=3.4")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(self.laid(), {**expected, "c.dat": b"c"})

    def test_what_lies_in_the_folder_is_not_fetched_again(self) -> None:
        self.world.want("tides", "=3.2")
        self.give("tides-3.2.zip")
        self.world.resolve()
        self.world.apply()
        with Shelf(self.world.path("shelf")) as shelf:
            for entry in shelf.index.all():
                shelf.forget(entry.digest)
        self.assertTrue(self.world.apply().preview.plan.is_empty)
        self.world.want("tides", "*")
        self.assertEqual(self.missing(), {"tides-3.4.zip", "tides-3.5.zip"})
        # Not if something of it is no longer as it was laid.
        self.world.write_game("mods/t/a.dat", b"mine")
        self.assertEqual(self.missing(), {"tides-3.4-full.zip", "tides-3.5.zip"})
        self.world.write_game("mods/t/a.dat", BIG)
        self.world.check()
        self.world.want("tides", "=3.4")
        self.give("tides-3.2.zip", "tides-3.4.zip")
        self.world.resolve()
        self.world.apply()
        with Shelf(self.world.path("shelf")) as shelf:
            for entry in shelf.index.all():
                shelf.forget(entry.digest)
        self.give("tides-3.5.zip")
        self.world.want("tides", "*")
        self.world.resolve(fresh=True)
        preview = self.world.run("preview").stdout
        self.assertIn("tides 3.5 is installed as patch 3.5 over 3.4 in the folder", preview)
        self.assertEqual(self.world.run("fetch").returncode, 0)
        self.world.apply()
        self.assertEqual(self.laid(), {"a.dat": BIG, "b.dat": b"new", "c.dat": b"c5"})
        # Taken off, it is no longer there to go over.
        self.world.restore_all()
        self.assertEqual(self.missing(), {"tides-3.4-full.zip"})

    def test_only_a_patch_can_be_had_in_full(self) -> None:
        self.world.add_release("waves", "1", {"a": b"a"},
                               place='to = "@mods/w/"\n[[release.full.file]]\nname = "x.zip"')  # fmt: skip
        result = self.world.run("vet")
        self.assertIn("only a patch can also be offered in full", result.stdout + result.stderr)


if __name__ == "__main__":
    unittest.main()
