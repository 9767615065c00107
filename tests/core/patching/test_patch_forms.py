"""Every form of patch in the table, through the built program: applied, told by its marks, refused."""

from __future__ import annotations

import unittest

from rellum.core.patching.patch_forms import KEYS, PATCH_FORMS, PatchForm, form_by_mark
from rellum.core.zstandard import zstd
from tests.support import WorldTest

OLD = b'{"depth": 1, "name": "north"}\n'
NEW = b'{"depth": 2, "name": "north"}\n'


def zstd_patch() -> bytes:
    library = zstd()
    prefix = library.ZstdDict(OLD, is_raw=True).as_prefix
    return bytes(library.compress(NEW, zstd_dict=prefix))


def vcdiff_patch() -> bytes:
    """Return a VCDIFF of one window that adds the new file, as RFC 3284 says: the smallest there is."""
    add = bytes([1, len(NEW)])
    lengths = bytes([len(NEW), 0, len(NEW), len(add), 0])
    body = lengths + NEW + add
    return b"\xd6\xc3\xc4\0\0" + bytes([0, len(body)]) + body


SAMPLES = {
    "diff": b"--- a/sea.json\n+++ b/sea.json\n@@ -1 +1 @@\n-" + OLD + b"+" + NEW,
    "json-patch": b'[{"op": "replace", "path": "/depth", "value": 2}]',
    "json-merge": b'{"depth": 2}',
    "vcdiff": vcdiff_patch(),
    "zstd": zstd_patch(),
}
"""A patch of each form that makes NEW of OLD. A new form needs a row here."""


class PatchFormsTest(WorldTest):
    def edit_by(self, form: PatchForm, patch: bytes, version: str) -> str:
        """Apply a release that edits a file by a patch; return what the program says on its error output."""
        self.world.add_release(
            "tides", version, {"p/sea.patch": patch},
            place=f'folder = true\nto = "@mods/t/"\n[[release.edit]]\nfile = "@data/sea.json"\n'
            f'by = "{form.id}"\nwith = "p/sea.patch"',
        )  # fmt: skip
        self.world.take_all()
        self.world.want("tides", f"={version}")
        self.world.run("resolve")
        return str(self.world.run("apply", "--yes").stderr)

    def test_every_form_of_the_registry(self) -> None:
        self.assertEqual(set(SAMPLES), {form.id for form in PATCH_FORMS})
        self.world.write_game("data/sea.json", OLD)
        self.world.adopt()
        for number, form in enumerate(PATCH_FORMS, 1):
            with self.subTest(form.id):
                self.assertEqual(self.edit_by(form, SAMPLES[form.id], f"{number}.0"), "")
                self.assertEqual(self.world.game()["data/sea.json"].content, NEW)
                self.world.restore_all()
                self.assertEqual(self.world.game()["data/sea.json"].content, OLD)
                is_marked = bool(form.marks)
                self.assertEqual(form_by_mark(SAMPLES[form.id]), form if is_marked else None)

    def test_a_patch_of_another_form_is_told(self) -> None:
        self.world.write_game("data/sea.json", OLD)
        self.world.adopt()
        for number, form in enumerate(PATCH_FORMS, 1):
            other = "vcdiff" if form.id != "vcdiff" else "zstd"
            with self.subTest(form.id):
                said = self.edit_by(form, SAMPLES[other], f"{number}.1")
                self.assertIn(f'Write by = "{other}" in the card', " ".join(said.split()))
                self.assertEqual(self.world.game()["data/sea.json"].content, OLD)
        self.assertNotIn(KEYS, {form.id for form in PATCH_FORMS})


if __name__ == "__main__":
    unittest.main()
