"""Edits: a mod that changes a file by a patch, over vanilla and over other mods, and back again."""

from __future__ import annotations

import hashlib
import io
import os
import tarfile
import unittest
from collections import Counter
from unittest import mock

from rellum.core.archives.model import Archive
from rellum.core.hashing import Digest
from rellum.core.shelf.store import Shelf
from tests.support import WorldTest, without_marker

VANILLA = b"vanilla cables\n" * 50
DIFF = b"--- a/cables.dat\n+++ b/cables.dat\n@@ -3,3 +3,4 @@\n%s-%s+%s+%s%s" % (
    b" vanilla cables\n", b"vanilla cables\n", b"copper cables\n", b"more copper\n", b" vanilla cables\n",
)  # fmt: skip
SECOND = (
    b"--- a\n+++ b\n@@ -4,3 +4,3 @@\n copper cables\n-more copper\n+much more copper\n"
    b" vanilla cables\n"
)


def edit(file: str, by: str, member: str, more: str = "") -> str:
    return (
        'to = "@mods/{0}/"\ntake = "files/**"\n[[release.edit]]\n'
        f'file = "{file}"\nby = "{by}"\nwith = "{member}"\n{more}'
    )


class EditsTest(WorldTest):
    def add(self, mod: str, patch: bytes, *, by: str = "diff", file: str = "@data/cables.dat",
            says: str = "", more: str = "") -> None:  # fmt: skip
        members = {"wrap/files/a.dat": mod.encode(), "wrap/patches/it": patch}
        place = edit(file, by, "patches/it", more).replace("{0}", mod)
        self.world.add_release(mod, "1.0", members, says=says, place=place)

    def cables(self) -> bytes:
        return self.world.game()["data/cables.dat"].content or b""

    def refused(self, *words: str) -> None:
        before = self.world.game()
        result = self.world.run("apply", "--yes")
        self.assertEqual(result.returncode, 2, result.stdout)
        for each in words:
            self.assertIn(each, result.stderr)
        self.assertEqual(self.world.game(), before)

    def test_over_vanilla_and_over_one_another(self) -> None:
        first = without_marker(self.world.game())
        self.add("copper", DIFF)
        self.add("more", SECOND, says='load = { after = ["copper"] }')
        self.make_applied()
        expected = VANILLA.splitlines(keepends=True)
        expected[3:4] = [b"copper cables\n", b"much more copper\n"]
        self.assertEqual(self.cables(), b"".join(expected))
        self.assertEqual(self.world.apply().preview.plan.operations, ())
        self.assertEqual(self.world.check().findings, ())
        # One goes: the other's edit is made again over what vanilla had.
        self.world.drop("more")
        self.world.resolve()
        self.world.apply()
        self.assertIn(b"\nmore copper\n", self.cables())
        self.world.restore_all()
        self.assertEqual(self.world.game(), first)

    def test_a_file_brought_later_goes_over_an_edit(self) -> None:
        self.add("copper", DIFF)
        self.world.add_release("whole", "1.0", {"data/cables.dat": b"all new"},
                               says='load = { after = ["copper"] }')  # fmt: skip
        self.make_applied()
        self.assertEqual(self.cables(), b"all new")

    def test_over_a_file_that_a_mod_brings(self) -> None:
        self.world.add_release("base", "1.0", {"conf.json": b'{"depth": 1, "kind": "sea"}\n'},
                               place='to = "@mods/base/"')  # fmt: skip
        said = 'needs = { base = "*" }'
        self.add(
            "deeper",
            b'{"depth": 9, "kind": null}',
            by="json-merge",
            file="@mods/base/conf.json",
            says=said,
        )
        self.add("named", b'[{"op": "add", "path": "/name", "value": "deep"}]', by="json-patch",
                 file="@mods/base/conf.json", says=said + '\nload = { after = ["deeper"] }')  # fmt: skip
        self.make_applied()
        conf = self.world.game()["mods/base/conf.json"].content
        self.assertEqual(conf, b'{"depth": 9, "name": "deep"}\n')

    def test_a_patch_brings_edits_over_its_full_release(self) -> None:
        self.world.add_release("base", "1.0", {"t.txt": b"one\ntwo\n"}, place='to = "@mods/base/"')
        members = {"p.diff": b"--- a\n+++ b\n@@ -1,2 +1,2 @@\n one\n-two\n+three\n", "x": b"x"}
        place = edit("@mods/base/t.txt", "diff", "p.diff").replace("files/**", "x")
        place = place.replace("{0}", "base")
        self.world.add_release("base", "1.1", members, says='patches = "1.0"', place=place)
        self.make_applied()
        self.assertEqual(self.world.game()["mods/base/t.txt"].content, b"one\nthree\n")

    def test_keys_that_the_card_sets(self) -> None:
        self.world.write_game("data/sea.ini", b"; calm\n[sea]\ndepth = 1\nold = 2\n")
        place = (
            'to = "@mods/deep/"\n[[release.edit]]\nfile = "@data/sea.ini"\nby = "keys"\n'
            'set = { sea = { depth = 40, calm = false } }\nremove = ["sea.old"]\n'
        )
        self.world.add_release("deep", "1.0", {"x": b"x"}, place=place)
        self.make_applied()
        sea = self.world.game()["data/sea.ini"].content
        self.assertEqual(sea, b"; calm\n[sea]\ndepth = 40\ncalm = false\n")
        for wrong, words in (
            ("set = [1]", "write a table of keys"),
            ("set = { a = [1] }", "write a table of keys"),
            ('as = "xml"\nset = { a = 1 }', "'xml' is not a form"),
            ("", "it sets no key"),
        ):
            self.world.cards.clear()
            self.world.add_release("deep", "1.0", {"x": b"x"}, place=place.split("set")[0] + wrong)
            told = self.world.run("vet")
            self.assertIn(words, told.stdout + told.stderr)

    def test_binary_patches(self) -> None:
        # A VCDIFF that copies the first 15 bytes of the vanilla file and adds three.
        window = bytes([1, 15, 0, 12, 18, 0, 3, 3, 1]) + b"!!!" + bytes([19, 15, 4]) + bytes([0])
        self.add("copper", b"\xd6\xc3\xc4\0\0" + window, by="vcdiff")
        self.make_applied()
        self.assertEqual(self.cables(), b"vanilla cables\n!!!")
        self.world.restore_all()
        self.assertEqual(self.cables(), VANILLA)

    def test_over_the_wrong_file(self) -> None:
        self.add("copper", DIFF, more=f'over = "{"0" * 64}"\n')
        self.make_resolved()
        self.refused("copper.toml:", "is for another version of that file", "it wants SHA-256 000")

    def test_it_must_give_what_the_card_says(self) -> None:
        right = hashlib.sha256(VANILLA).hexdigest()
        self.add("copper", DIFF, more=f'over = "{right}"\ngives = "{"0" * 64}"\n')
        self.make_resolved()
        self.refused("does not give what the card says")

    def test_hunks_that_do_not_fit_and_fuzz(self) -> None:
        loose = DIFF.replace(b" vanilla cables\n-", b" other words\n-")
        self.add("copper", loose)
        self.make_resolved()
        self.refused("1 hunk does not fit a/cables.dat", "-vanilla cables", "With 'fuzz'")
        self.world.cards.clear()
        self.add("copper", loose, more="fuzz = 1\n")
        self.world.take_all()
        self.world.resolve()
        self.world.apply()
        self.assertIn(b"more copper", self.cables())

    def test_what_is_not_there(self) -> None:
        self.add("copper", DIFF, file="@data/none.dat")
        self.make_resolved()
        self.refused("there is no file data/none.dat to edit")

    def test_a_vanilla_file_that_somebody_changed(self) -> None:
        self.add("copper", DIFF)
        self.make_resolved()
        self.world.write_game("data/cables.dat", b"my own cables\n")
        self.refused("data/cables.dat is not as it was adopted")

    def test_patches_that_are_none(self) -> None:
        for number, (by, patch, words) in enumerate((
            ("diff", b"words", "holds no unified diff"),
            ("diff", DIFF + DIFF, "is a diff of 2 files"),
            ("json-merge", b"{}", "the file:1: is no JSON"),
        )):  # fmt: skip
            with self.subTest(words):
                if number:
                    self.doCleanups()
                    self.setUp()
                self.add("copper", patch, by=by)
                self.make_resolved()
                self.refused(words)
                self.assertFalse(os.path.exists(self.world.path("game", "mods", "copper")))

    def test_what_a_card_says_wrong(self) -> None:
        self.add("copper", DIFF, by="magic", more='options = { quality = "high" }\n')
        self.world.adopt()
        told = self.world.run("vet")
        self.assertIn(
            "'magic' is not a form of edit; use one of diff, json-patch",
            told.stdout + told.stderr,
        )

    def test_each_archive_is_read_once_for_all_edits(self) -> None:
        def tar(members: dict[str, bytes]) -> bytes:
            stream = io.BytesIO()
            with tarfile.open(fileobj=stream, mode="w:gz") as archive:
                for name, content in members.items():
                    info = tarfile.TarInfo(name)
                    info.size = len(content)
                    archive.addfile(info, io.BytesIO(content))
            return stream.getvalue()

        texts = {f"{number}.txt": b"one\n%d\nthree\n" % number for number in range(12)}
        patches = {
            name: b"--- a\n+++ b\n@@ -1,3 +1,3 @@\n-one\n+ONE\n"
            + b"".join(b" " + line + b"\n" for line in text.split(b"\n")[1:3])
            for name, text in texts.items()
        }
        self.world.add_release("base", "1.0", {}, archive=tar(texts), place='to = "@mods/"')
        edits = "".join(
            f'[[release.edit]]\nfile = "@mods/{name}"\nby = "diff"\nwith = "{name}.diff"\n'
            for name in patches
        )
        self.world.add_release(
            "tides", "1.0", {}, archive=tar({f"{n}.diff": c for n, c in patches.items()}),
            place=f'folder = true\nto = "@mods/t"\n{edits}', says='load = { after = ["base"] }',
        )  # fmt: skip
        self.make_resolved()
        opened: Counter[str] = Counter()
        real = Shelf.open

        def counting(shelf: Shelf, digest: Digest) -> Archive:
            opened[digest] += 1
            return real(shelf, digest)

        with mock.patch.object(Shelf, "open", counting):
            self.world.apply()
        self.assertEqual(sorted(opened.values()), [1, 1])
        self.assertEqual(self.world.game()["mods/7.txt"].content, b"ONE\n7\nthree\n")


if __name__ == "__main__":
    unittest.main()
