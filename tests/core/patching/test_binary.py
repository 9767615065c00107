"""VCDIFF and zstd patches as the real encoders write them, and whatever is no such patch."""

from __future__ import annotations

import io
import os
import random
import shutil
import subprocess
import tempfile
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.patching import vcdiff, zstd_patch
from rellum.core.patching.model import PatchFault

MOST = 1 << 24
HEAD = b"\xd6\xc3\xc4\0"


def apply_vcdiff(old: bytes, delta: bytes, name: str, most: int) -> bytes:
    out = io.BytesIO()
    vcdiff.apply_vcdiff(old, delta, out, name, most)
    return out.getvalue()


def apply_zstd(old: bytes, delta: bytes, name: str, most: int) -> bytes:
    out = io.BytesIO()
    zstd_patch.apply_zstd(old, delta, out, name, most)
    return out.getvalue()


def related(source: random.Random, size: int) -> tuple[bytes, bytes]:
    """Return two contents of which the second has much of the first: moved, repeated, changed."""
    old = b"".join(source.randbytes(20) * source.randint(1, 5) for _ in range(size // 60 + 1))
    new = bytearray()
    for _ in range(source.randint(0, 12)):
        kind = source.randrange(4)
        at = source.randrange(len(old))
        if kind == 0:
            new += source.randbytes(source.randint(1, 300))
        elif kind == 1:
            new += bytes([source.randrange(256)]) * source.randint(1, 2000)
        elif kind == 2 and new:
            new += new[source.randrange(len(new)) :][:500]
        else:
            new += old[at : at + source.randint(1, len(old))]
    return old, bytes(new)


class BinaryPatchTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = tempfile.mkdtemp()
        self.addCleanup(shutil.rmtree, self.folder)

    def path(self, name: str, content: bytes | None = None) -> str:
        path = os.path.join(self.folder, name)
        if content is not None:
            with open(path, "wb") as file:
                file.write(content)
        return path

    def run_tool(self, *words: str) -> bytes:
        subprocess.run(words, check=True, capture_output=True)
        with open(self.path("delta"), "rb") as file:
            return file.read()

    @unittest.skipUnless(shutil.which("xdelta3"), "xdelta3 is not installed")
    @settings(max_examples=60)
    @given(
        st.integers(0, 1 << 32),
        st.integers(1, 200_000),
        st.sampled_from([(), ("-n",), ("-9",), ("-0",), ("-A",)]),
    )
    def test_vcdiffs_of_the_real_encoder(self, seed, size, more) -> None:
        old, new = related(random.Random(seed), size)
        delta = self.run_tool(
            "xdelta3", "-e", "-f", "-S", "none", *more, "-s",
            self.path("old", old), self.path("new", new), self.path("delta"),
        )  # fmt: skip
        self.assertEqual(apply_vcdiff(old, delta, "d", MOST), new)
        if "-n" not in more and new:
            wrong = bytes([old[0] ^ 1]) + old[1:]
            try:
                self.assertEqual(apply_vcdiff(wrong, delta, "d", MOST), new)
            except PatchFault as error:
                self.assertIn("another", error.summary)

    @unittest.skipUnless(shutil.which("zstd"), "zstd is not installed")
    @settings(max_examples=40)
    @given(st.integers(0, 1 << 32), st.integers(1, 200_000))
    def test_zstd_patches_of_the_real_encoder(self, seed, size) -> None:
        old, new = related(random.Random(seed), size)
        if not new:  # the encoder itself does not take that
            return
        delta = self.run_tool(
            "zstd", "-q", "-f", "--patch-from", self.path("old", old), self.path("new", new),
            "-o", self.path("delta"),
        )  # fmt: skip
        self.assertEqual(apply_zstd(old, delta, "d", MOST), new)
        for broken in (delta[:-1], delta + b"x", b"words"):
            with self.assertRaises(PatchFault):
                apply_zstd(old, broken, "d", MOST)
        if len(new) > 10:
            with self.assertRaisesRegex(PatchFault, "more than 10 bytes"):
                apply_zstd(old, delta, "d", 10)

    def test_the_example_of_the_rfc(self) -> None:
        # RFC 3284, section 3: source abcdefghijklmnop, target abcdwxyzefghefghefghefghzzzz.
        window = bytes([1, 16, 0]) + bytes([22, 28, 0, 5, 7, 3]) + b"wxyzz"
        window += bytes([19 + 1, 1 + 4, 19 + 1, 19, 12, 0, 4]) + bytes([0, 4, 24])
        made = apply_vcdiff(b"abcdefghijklmnop", HEAD + b"\0" + window, "d", MOST)
        self.assertEqual(made, b"abcdwxyzefghefghefghefghzzzz")

    def test_what_is_refused(self) -> None:
        for delta, words in (
            (b"BSDIFF40", "is no VCDIFF"),
            (b"\xd6\xc3\xc4\x53\0", "version 83"),
            (HEAD + b"\x01\x02", "secondary compressor .number 2"),
            (HEAD + b"\x02", "code table of its own"),
            (HEAD + b"\x08", "flags in its header"),
            (HEAD + b"\0\x03", "window with flags"),
            (HEAD + b"\0\x01\x10\x08", "of the file that it goes over, which has 16"),
            (HEAD + b"\0\0\x10\xff\xff\xff\x7f", "larger file than is allowed"),
            (HEAD + b"\0\0\x05\x01\x01", "packed by a secondary"),
            (HEAD + b"\0\0\x05\x04\0\0\x02\x01\x14\x03", "is truncated"),
            (HEAD + b"\0\0\x08\x04\0\0\x01\x01\x14\x05", "copies from byte 5, where only 0"),
            (HEAD + b"\0\0\x08\x02\0\x01\x01\0\x61\x02", "makes 1 of the 2"),
            (HEAD + b"\0" + b"\0" + b"\xff" * 12, "number that is too large"),
        ):
            with self.assertRaisesRegex(PatchFault, words, msg=repr(delta)):
                apply_vcdiff(b"0123456789abcdef", delta, "d", MOST)

    @settings(max_examples=400)
    @given(st.binary(max_size=80), st.integers(0, 80), st.integers(1, 255))
    def test_any_bytes_give_a_clear_error(self, noise, position, flip) -> None:
        window = bytes([1, 16, 0]) + bytes([22, 28, 0, 5, 7, 3]) + b"wxyzz"
        window += bytes([19 + 1, 1 + 4, 19 + 1, 19, 12, 0, 4]) + bytes([0, 4, 24])
        good = bytearray(HEAD + b"\0" + window)
        good[position % len(good)] ^= flip
        for delta in (bytes(good), HEAD + b"\0" + noise, HEAD + b"\0\0" + noise):
            try:
                self.assertLessEqual(len(apply_vcdiff(b"abcdefghijklmnop", delta, "d", 500)), 500)
            except PatchFault as error:
                self.assertTrue(error.summary)


if __name__ == "__main__":
    unittest.main()
