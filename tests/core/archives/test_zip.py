"""Archives: hostile ones are refused whole, good ones give exactly what is in them."""

from __future__ import annotations

import io
import os
import stat
import struct
import tempfile
import unittest
import zipfile
import zlib

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.archives import inflate
from rellum.core.archives.model import ArchiveFault, ContentMismatch, Extraction
from rellum.core.archives.open import open_archive
from rellum.core.errors import UserError
from rellum.core.hashing import hash_bytes
from tests.support import zip_bytes

METHODS = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA)


def with_attributes(name: str, attributes: int) -> bytes:
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        info = zipfile.ZipInfo(name)
        info.create_system = 3
        info.external_attr = attributes << 16
        archive.writestr(info, b"x")
    return stream.getvalue()


class ArchiveTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = tempfile.TemporaryDirectory()
        self.addCleanup(self.folder.cleanup)
        self.path = os.path.join(self.folder.name, "a.zip")

    def open(self, content: bytes):
        with open(self.path, "wb") as file:
            file.write(content)
        return open_archive(self.path)

    def refusal(self, content: bytes) -> str:
        with self.assertRaises(ArchiveFault) as caught:
            self.open(content).check()
        return caught.exception.summary

    def test_reads_every_method(self) -> None:
        members = {"a.txt": b"", "d/b.dat": os.urandom(5000), "d/c.dat": b"sea " * 3_000_000}
        for method in METHODS:
            found = self.open(zip_bytes(members, method)).check()
            self.assertEqual(
                {m.path: (m.size, m.digest) for m in found},
                {name: (len(c), hash_bytes(c)) for name, c in members.items()},
            )

    def test_extracts_and_verifies(self) -> None:
        archive = self.open(zip_bytes({"a": b"one", "b": b"two"}))
        good = os.path.join(self.folder.name, "good")
        [one, two] = archive.check()
        archive.extract([Extraction(member=one.path, digest=one.digest, target=good, mode=0o644)])
        with open(good, "rb") as file:
            self.assertEqual(file.read(), b"one")
        bad = os.path.join(self.folder.name, "bad")
        with self.assertRaises(ContentMismatch):
            archive.extract(
                [Extraction(member=two.path, digest=one.digest, target=bad, mode=0o644)]
            )

    def test_no_archive(self) -> None:
        for content, words in (
            (b"", "empty"),
            (b"just text", "not an archive"),
            (b"\n<!DOCTYPE html><title>Sign in</title>", "web page"),
            (zip_bytes({"a": os.urandom(5000)})[:3000], "the download is incomplete"),
        ):
            self.assertIn(words, self.refusal(content))
        with self.assertRaisesRegex(ArchiveFault, "cannot be read"):
            open_archive(os.path.join(self.folder.name, "none"))

    def test_names_that_are_refused(self) -> None:
        for name in (
            "../up", "a/../../up", "/abs", "C:/x", "C:\\x", "..\\up", "a/./b", "a//b", "a\x07b",
            "con.txt", "a/LPT1", "dot.", "space ", "a:stream", "what?", "x" * 256,
        ):  # fmt: skip
            stream = io.BytesIO()
            with zipfile.ZipFile(stream, "w") as archive:
                info = zipfile.ZipInfo("good")
                info.filename = name
                archive.writestr(info, b"x")
            self.assertIn("refuses the whole archive", self.refusal(stream.getvalue()), name)

    def test_members_that_are_refused(self) -> None:
        self.assertIn("neither", self.refusal(with_attributes("l", stat.S_IFIFO | 0o644)))
        self.assertIn("be one file", self.refusal(zip_bytes({"e\u0301": b"", "\u00e9": b""})))
        self.assertIn("a file and a folder", self.refusal(zip_bytes({"a": b"", "a/b": b""})))

    def test_encrypted(self) -> None:
        content = bytearray(zip_bytes({"a": b"x"}))
        for mark, flags_at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
            content[content.find(mark) + flags_at] |= 1
        self.assertIn("encrypted", self.refusal(bytes(content)))

    def test_a_bomb_that_shares_bytes(self) -> None:
        content = zip_bytes({"a": b"\0" * 100_000, "b": b"\0" * 100_000})
        directory = content.find(b"PK\x01\x02")
        second = content.find(b"PK\x01\x02", directory + 1)
        patched = bytearray(content)
        patched[second + 42 : second + 46] = struct.pack("<L", 0)  # b's bytes are said to be a's
        self.assertIn("share the same bytes", self.refusal(bytes(patched)))

    def test_more_than_declared(self) -> None:
        content = bytearray(zip_bytes({"a": b"\0" * 100_000}))
        at = content.find(b"PK\x01\x02") + 24
        for declared, words in (
            (10, "contains more than the 10 bytes"),
            (500_000_000, "would unpack"),
        ):
            content[at : at + 4] = content[22:26] = struct.pack("<L", declared)
            self.assertIn(words, self.refusal(bytes(content)))

    def test_list_and_member_that_disagree(self) -> None:
        """Name, method, encryption and sizes before a member's content are those in the list."""
        content = zip_bytes({"aaa.txt": b"hello" * 100})
        for at, other in (
            (30, b"zzz"), (22, struct.pack("<L", 7)), (18, struct.pack("<L", 7)), (8, b"\0\0"), (6, b"\1"),
            (26, struct.pack("<H", 6)),
        ):  # fmt: skip
            patched = content[:at] + other + content[at + len(other) :]
            self.assertIn("differs between the archive's list", self.refusal(patched), at)

    def test_a_comment_full_of_ends(self) -> None:
        content = zip_bytes({"a": b"a"})
        for end in (
            b"PK\5\6" + bytes(18),
            b"PK\5\6" + struct.pack("<HHHHLLH", 1, 1, 9, 9, 9, 9, 0),
        ):
            comment = end * 2_900
            patched = content[:-2] + struct.pack("<H", len(comment)) + comment
            self.assertIn("several end records", self.refusal(patched))

    @settings(max_examples=150, deadline=None)
    @given(st.integers(0, 10**6), st.integers(1, 255))
    def test_any_flipped_byte_is_noticed_or_harmless(self, position, flip) -> None:
        members = {"a.dat": bytes(range(256)) * 20, "b/c.dat": b"tide " * 400}
        content = bytearray(zip_bytes(members))
        content[position % len(content)] ^= flip
        try:
            found = self.open(bytes(content)).check()
        except UserError:
            return
        for member in found:
            self.assertIn(member.digest, {hash_bytes(each) for each in members.values()})

    @settings(max_examples=100, deadline=None)
    @given(st.binary(max_size=400))
    def test_any_bytes_give_a_clear_error(self, content) -> None:
        try:
            self.open(b"PK\x03\x04" + content + zip_bytes({"a": b"x"})[-60:]).check()
        except UserError as error:
            self.assertTrue(error.summary)


class InflateTest(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.binary(max_size=3000), st.integers(1, 3000))
    def test_pieces_are_the_whole(self, seed, times) -> None:
        content = seed * times
        packer = zlib.compressobj(6, zlib.DEFLATED, -15)
        packed = packer.compress(content) + packer.flush()

        def read_at(offset: int, count: int) -> bytes:
            return packed[offset : offset + count]

        found = b"".join(inflate.inflate(read_at, 0, len(packed), len(content)))
        self.assertEqual(found, content)
        for wrong in (len(content) + 1, max(0, len(content) - 1)):
            if wrong != len(content):
                with self.assertRaises(inflate.DeflateFault):
                    list(inflate.inflate(read_at, 0, len(packed), wrong))


if __name__ == "__main__":
    unittest.main()
