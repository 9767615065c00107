"""The gate: what no member may do, tried against a plain model of file systems."""

from __future__ import annotations

import os
import tempfile
import unicodedata
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.archives.checksums import is_checksum_list, lists_beside, read_checksums
from rellum.core.archives.forms import page_title, unfinished, what_instead
from rellum.core.archives.gate import Gate
from rellum.core.archives.model import ArchiveFault, Limits
from rellum.core.archives.names import decode, guess_encoding

PARTS = st.sampled_from(["a", "A", "b", "\u00e9", "e\u0301", "\u00c9", "ss", "\u00df"])
PATHS = st.lists(PARTS, min_size=1, max_size=3).map("/".join)


def composed(path: str) -> str:
    return unicodedata.normalize("NFC", path)


def collides(paths: list[str]) -> bool:
    """Whether a file system that composes Unicode could not hold these files."""
    files: set[str] = set()
    folders: set[str] = set()
    for path in map(composed, paths):
        parts = path.split("/")
        above = {"/".join(parts[:n]) for n in range(1, len(parts))}
        if path in files or path in folders or above & files:
            return True
        files.add(path)
        folders |= above
    return False


class GateTest(unittest.TestCase):
    @settings(max_examples=400, deadline=None)
    @given(st.lists(PATHS, max_size=7))
    def test_collisions(self, paths) -> None:
        gate = Gate("x", 1000, Limits())
        try:
            for path in paths:
                gate.admit(path, 0)
            refused = False
        except ArchiveFault:
            refused = True
        self.assertEqual(refused, collides(paths), paths)

    def refusal(self, name: str, size: int = 0, fault: str = "", **limits: int) -> str:
        gate = Gate("x.zip", 1000, Limits(**limits))
        with self.assertRaises(ArchiveFault) as caught:
            gate.admit(name, size, fault)
        self.assertIn("refuses the whole archive", caught.exception.summary)
        return caught.exception.summary

    def test_names(self) -> None:
        for name in (
            "", "..", "a/..", "../a", "/a", "\\\\host\\share\\a", "\\a", "c:a", "C:\\a", "a//b", "./a",
            "a\0b", "a\nb", "a\x1b[2Jb", "a.", "a ", "a /b", "con", "CON.txt", "a/nul", "lpt1.dat",
            "com\u00b9", "a:b", "a?b", "a*b", "a|b", "a<b", 'a"b', "x" * 256,
        ):  # fmt: skip
            self.assertIn("cannot be used", self.refusal(name), repr(name))
        self.assertIn("'l' is a link", self.refusal("l", fault="is a link"))
        self.assertIn("declares a size of -1", self.refusal("a", -1))

    def test_limits(self) -> None:
        self.assertIn("'depth'", self.refusal("/".join("abcd"), depth=3))
        self.assertIn("'unpacked'", self.refusal("a", 5000, unpacked=4000))
        self.assertIn("'ratio'", self.refusal("a", 5000, ratio=4, ratio_free=100))
        gate = Gate("x", 1000, Limits(ratio=4, ratio_free=100))
        gate.admit("a", 10)
        gate.spend(3900)
        with self.assertRaisesRegex(ArchiveFault, "unpacks to more than 4,001"):
            gate.spend(101)

    def test_folders_may_be_named_again(self) -> None:
        gate = Gate("x", 1000, Limits())
        for name, is_folder in (("d", True), ("d/", False), ("d/a", False), ("d", True)):
            gate.admit(name, 0, is_folder=is_folder)


class FormsTest(unittest.TestCase):
    def test_pages_and_answers(self) -> None:
        page = b"\xef\xbb\xbf <HTML lang=de><head>\n<TITLE>\n Sign&amp;in\n  here </TITLE>"
        self.assertEqual(page_title(page), "Sign&in here")
        self.assertIn("('Sign&in here')", what_instead(page))
        self.assertIn("a web page", what_instead(b"<!doctype html><p>no title"))
        self.assertIn("for programs", what_instead(b'{"message": "expired"}'))
        self.assertIn("zero bytes", what_instead(bytes(100)))
        self.assertEqual(what_instead(b"RIFF data"), "")

    def test_unfinished(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = os.path.join(folder, "a.zip")
            self.assertEqual(unfinished(path), "")
            self.assertIn("is not finished", unfinished(path + ".PART"))
            open(path + ".crdownload", "w").close()
            self.assertIn("a.zip.crdownload lies beside it", unfinished(path))


class NamesTest(unittest.TestCase):
    def test_encodings_are_told_by_their_letters(self) -> None:
        for text, encoding in (
            ("карта моря.dat", "cp866"),
            ("карта моря и льда.dat", "cp1251"),
            ("海の地図と潮の流れ.dat", "cp932"),
            ("carte de la mer gelée.dat", "utf-8"),
        ):
            raw = text.encode(encoding)
            self.assertEqual(decode(raw, guess_encoding([raw])), text)
        self.assertEqual(decode(b"\xff\xfe", "utf-8"), "\ufffd\ufffd")

    @given(st.lists(st.binary(min_size=1, max_size=30), min_size=1, max_size=4))
    def test_any_bytes_give_some_text(self, names) -> None:
        encoding = guess_encoding(names)
        for name in names:
            self.assertIsInstance(decode(name, encoding), str)


class ChecksumsTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = folder.name

    def write(self, name: str, text: str) -> str:
        path = os.path.join(self.folder, name)
        with open(path, "w", encoding="utf-8") as file:
            file.write(text)
        return path

    def test_forms(self) -> None:
        digest = "ab" * 32
        for name, text, expected in (
            ("SHA256SUMS", f"{digest}  a b.zip\n\n# no\n{digest} *d/c.zip\nrubbish\n",
             [("a b.zip", "sha256", "SHA256SUMS:1"), ("c.zip", "sha256", "SHA256SUMS:4")]),
            ("checksums.txt", f"SHA256 (a.zip) = {digest}\nMD5 (a.zip) = {'cd' * 16}\n",
             [("a.zip", "sha256", "checksums.txt:1"), ("a.zip", "md5", "checksums.txt:2")]),
            ("all.sfv", "; c\na b.zip 0a1B2c3D\n", [("a b.zip", "crc32", "all.sfv:2")]),
            ("a.zip.sha1", "ef" * 20, [("a.zip", "sha1", "a.zip.sha1:1")]),
        ):  # fmt: skip
            path = self.write(name, text)
            self.assertTrue(is_checksum_list(path), name)
            found = read_checksums(path)
            self.assertEqual([(each.name, each.kind, each.place) for each in found], expected)
        self.assertEqual(len(lists_beside([os.path.join(self.folder, "a.zip")])), 6)
        self.assertFalse(is_checksum_list(self.write("mod.txt", "x")))

    @given(st.text(max_size=300))
    def test_any_text_is_read(self, text) -> None:
        for name in ("MD5SUMS", "x.sfv"):
            for each in read_checksums(self.write(name, text)):
                self.assertNotIn("/", each.name)


if __name__ == "__main__":
    unittest.main()
