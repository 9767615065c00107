"""Rebuilding a container: any zip, any changes; read back by the standard library."""

from __future__ import annotations

import io
import os
import shutil
import tempfile
import unittest
import zipfile
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.hashing import hash_file
from rellum.core.patching.container import compare_members, extract_member, members_of, rebuild
from rellum.core.patching.model import PatchFault
from tests.support import memory_folder

names = st.sampled_from(["a", "b/c", "b/d.map", "été.txt", "signs/x.sig", "z"])
contents = st.dictionaries(names, st.binary(max_size=300), max_size=5)


class Pipe:
    """Can only be written to, so that sizes stand behind the data."""

    def __init__(self) -> None:
        self._content = bytearray()

    def write(self, piece: bytes) -> int:
        self._content += piece
        return len(piece)

    def flush(self) -> None:
        """Nothing waits."""

    def getvalue(self) -> bytes:
        return bytes(self._content)


class ContainerTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = tempfile.mkdtemp(dir=memory_folder())
        self.addCleanup(shutil.rmtree, self.folder)

    def path(self, name: str) -> str:
        return os.path.join(self.folder, name)

    def write(self, members: dict[str, bytes], method: int, comment: bytes, streamed: bool) -> None:
        stream: Any = Pipe() if streamed else io.BytesIO()
        with zipfile.ZipFile(stream, "w", method) as archive:
            archive.comment = comment
            for name, content in members.items():
                archive.writestr(name, content)
        with open(self.path("old"), "wb") as file:
            file.write(stream.getvalue())

    @settings(max_examples=150)
    @given(
        contents,
        st.dictionaries(names, st.none() | st.binary(max_size=300), max_size=4),
        st.sampled_from([zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED]),
        st.binary(max_size=3),  # not the signature of the end, which no reader can tell from it
        st.booleans(),
    )
    def test_any(self, old, changes, method, comment, streamed) -> None:
        self.write(old, method, comment, streamed)
        files: dict[str, str | None] = {}
        for number, (name, content) in enumerate(changes.items()):
            files[name] = None if content is None else self.path(f"new-{number}")
            if content is not None:
                with open(self.path(f"new-{number}"), "wb") as file:
                    file.write(content)
        dropped = {name for name in old if name.endswith(".sig") and name not in changes}
        target = self.path("made")
        if os.path.exists(target):
            os.unlink(target)
        made = rebuild(self.path("old"), files, lambda name: name.endswith(".sig"), target, "pak")
        expected = {name: content for name, content in old.items() if name not in dropped}
        expected |= {name: content for name, content in changes.items() if content is not None}
        for name, content in changes.items():
            if content is None:
                expected.pop(name, None)
        with zipfile.ZipFile(target) as archive:
            self.assertIsNone(archive.testzip())
            self.assertEqual({name: archive.read(name) for name in archive.namelist()}, expected)
            self.assertEqual(archive.comment, comment)
            stays = [name for name in old if name in expected]
            self.assertEqual([n for n in archive.namelist() if n in stays], stays)
        self.assertEqual(made.digest, hash_file(target))
        self.assertEqual(members_of(target, "pak"), made.members)
        self.assertEqual(set(made.dropped), dropped)

    def test_members_are_compared(self) -> None:
        found = compare_members({"a": 1, "b": 2, "c": 3}, {"b": 2, "c": 4, "d": 5})
        self.assertEqual(
            [(each.kind, each.member) for each in found],
            [("missing", "a"), ("changed", "c"), ("foreign", "d")],
        )

    def test_a_member_that_says_it_is_huge(self) -> None:
        with zipfile.ZipFile(self.path("old"), "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("a", b"small")
        with open(self.path("old"), "r+b") as file:
            content = file.read()
            at = content.index(b"PK\1\2") + 24
            file.seek(at)
            file.write((1 << 31).to_bytes(4, "little"))
        with self.assertRaisesRegex(PatchFault, "unpacks to too much"):
            extract_member(self.path("old"), "a", self.path("made"), "pak")
        with self.assertRaisesRegex(PatchFault, "cannot be read"):
            extract_member(self.path("old"), "b", self.path("made"), "pak")

    def test_two_members_of_one_name(self) -> None:
        import warnings

        with warnings.catch_warnings(), zipfile.ZipFile(self.path("old"), "w") as archive:
            warnings.simplefilter("ignore")
            archive.writestr("a", b"1")
            archive.writestr("a", b"2")
        with self.assertRaisesRegex(PatchFault, "two members of one name"):
            members_of(self.path("old"), "pak")


if __name__ == "__main__":
    unittest.main()
