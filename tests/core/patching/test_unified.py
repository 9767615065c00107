"""Unified diffs give what GNU patch gives, and what they cannot do they say."""

from __future__ import annotations

import os
import random
import re
import shutil
import subprocess
import tempfile
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.patching.model import PatchFault
from rellum.core.patching.unified import apply_diff, read_diff

WORDS = [b"sea", b"tide", b"lamp", b"bell", b"}", b"", b"end", b"cable"]


def lines(source: random.Random, count: int) -> list[bytes]:
    return [source.choice(WORDS) for _ in range(count)]


def edited(source: random.Random, old: list[bytes], most: int) -> list[bytes]:
    new = list(old)
    for _ in range(source.randint(1, most)):
        at = source.randint(0, len(new))
        kind = source.randrange(3)
        if kind == 0:
            new[at:at] = lines(source, source.randint(1, 4))
        elif kind == 1:
            del new[at : at + source.randint(1, 4)]
        elif at < len(new):
            new[at] = source.choice(WORDS) + b"!"
    return new


def text(parts: list[bytes], end: bytes, last: bool) -> bytes:
    joined = end.join(parts)
    return joined + end if parts and last else joined


class UnifiedTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = tempfile.mkdtemp()
        self.addCleanup(shutil.rmtree, self.folder)

    def write(self, name: str, content: bytes) -> str:
        path = os.path.join(self.folder, name)
        with open(path, "wb") as file:
            file.write(content)
        return path

    def gnu_patch(self, content: bytes, diff: bytes, fuzz: int) -> bytes | None:
        """Return what GNU patch makes of a file; None where it refuses a hunk."""
        target, patch = self.write("target", content), self.write("diff", diff)
        command = [
            "patch",
            "--binary",
            "-s",
            "-f",
            f"-F{fuzz}",
            "-r",
            "-",
            "-o",
            "-",
            target,
            patch,
        ]
        result = subprocess.run(command, capture_output=True, check=False)
        return None if result.returncode else result.stdout

    def diff(self, old: bytes, new: bytes, context: int) -> bytes:
        command = ["diff", f"-U{context}", self.write("old", old), self.write("new", new)]
        return subprocess.run(command, capture_output=True, check=False).stdout

    def ours(self, content: bytes, diff: bytes, fuzz: int) -> bytes | None:
        try:
            [of_file] = read_diff(diff, "x.diff")
            return apply_diff(content, of_file, "x.diff", fuzz).content
        except PatchFault:
            return None

    @unittest.skipUnless(shutil.which("patch"), "GNU patch is not installed")
    @settings(max_examples=150, deadline=None)
    @given(st.integers(0, 1 << 32), st.integers(0, 4), st.integers(0, 3), st.booleans())
    def test_as_gnu_patch_does(self, seed, context, fuzz, crlf) -> None:
        source = random.Random(seed)
        end = b"\r\n" if crlf else b"\n"
        old = lines(source, source.randint(0, 40))
        new = edited(source, old, 6)
        other = edited(source, old, 3) if source.random() < 0.6 else old
        old_text = text(old, end, source.random() < 0.8)
        diff = self.diff(old_text, text(new, end, source.random() < 0.8), context)
        if not diff:
            return
        content = old_text if other is old else text(other, end, source.random() < 0.8)
        if not content.endswith(b"\n") and re.search(rb"^\+\r?\n", diff, re.MULTILINE):
            return  # GNU patch takes an empty line for the missing end of the last; see docs/files.md
        self.assertEqual(
            self.ours(content, diff, fuzz), self.gnu_patch(content, diff, fuzz), (content, diff)
        )

    def test_several_files_and_words_between(self) -> None:
        diff = (
            b"some words\ndiff -u a/one b/one\n--- a/one\t2024-05-01\n+++ b/one\t2024-05-02\n"
            b"@@ -1 +1 @@\n-x\n+y\n--- a/two words\n+++ /dev/null\n@@ -1 +0,0 @@\n-z\n"
        )
        found = read_diff(diff, "d")
        self.assertEqual(
            [(each.old_name, each.new_name) for each in found],
            [("a/one", "b/one"), ("a/two words", "/dev/null")],
        )
        self.assertEqual(apply_diff(b"z\n", found[1], "d").content, b"")

    def test_offsets_are_told(self) -> None:
        [diff] = read_diff(b"--- a\n+++ b\n@@ -2,3 +2,3 @@\n a\n-b\n+B\n c\n", "d")
        applied = apply_diff(b"1\n2\n3\n4\na\nb\nc\nz\n", diff, "d")
        self.assertEqual((applied.offsets, applied.fuzz), ((3,), (0,)))
        self.assertEqual(applied.content, b"1\n2\n3\n4\na\nB\nc\nz\n")

    def test_what_cannot_be_read(self) -> None:
        head = b"--- a\n+++ b\n"
        for diff, words in (
            (b"no diff at all\n", "holds no unified diff"),
            (head + b"nothing\n", "d:3: there is no hunk"),
            (head + b"@@ -1,2 +1,2 @@\n a\n", "d:4: it ends in the middle of a hunk"),
            (head + b"@@ -1,2 +1,1 @@\n-a\n+b\n+c\n", "d:6: the hunk of line 3 has other lines"),
            (head + b"@@ -1,2 +1,2 @@\n a\n?b\n", "d:5: this is no line of a hunk"),
        ):
            with self.assertRaises(PatchFault) as caught:
                read_diff(diff, "d")
            self.assertIn(words, caught.exception.summary)

    def test_refused_hunks_are_shown(self) -> None:
        [diff] = read_diff(
            b"--- a/sea.txt\n+++ b\n@@ -1 +1 @@\n-calm\n+rough\n@@ -9 +9 @@\n-low\n+high\n", "d"
        )
        with self.assertRaises(PatchFault) as caught:
            apply_diff(b"stormy\n", diff, "d")
        self.assertEqual(caught.exception.summary, "d: 2 hunks do not fit a/sea.txt")
        self.assertEqual(
            caught.exception.details[:2], ("d:3: no such lines in the file:", "  -calm")
        )

    @settings(max_examples=200, deadline=None)
    @given(st.binary(max_size=120), st.binary(max_size=120))
    def test_any_bytes_give_a_clear_error(self, diff, content) -> None:
        for each in (diff, b"--- a\n+++ b\n@@ -1,3 +1,2 @@\n" + diff):
            try:
                for of_file in read_diff(each, "d"):
                    apply_diff(content, of_file, "d", 2)
            except PatchFault as error:
                self.assertTrue(error.summary)


if __name__ == "__main__":
    unittest.main()
