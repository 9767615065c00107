"""Torrents as lists: what is whole, damaged or missing, against a plain encoder; and ones that do harm."""

from __future__ import annotations

import hashlib
import os
import tempfile
import unittest
from collections.abc import Mapping
from importlib.util import find_spec
from typing import Any

from hypothesis import example, given
from hypothesis import strategies as st

from rellum.core.fetching.bencode import decode
from rellum.core.fetching.torrent_check import check_files, find_files
from rellum.core.fetching.torrent_file import TorrentFault, read_torrent_file
from tests.support import write_tree

PIECE = 1024
WORLDS = st.dictionaries(
    st.sampled_from(["a.zip", "b/c.dat", "b/d.txt", "e", "long name.7z"]),
    st.binary(max_size=3000),
    min_size=1,
)


def encode(value: Any) -> bytes:
    if isinstance(value, int):
        return b"i%de" % value
    if isinstance(value, bytes):
        return b"%d:%b" % (len(value), value)
    if isinstance(value, list):
        return b"l" + b"".join(map(encode, value)) + b"e"
    return b"d" + b"".join(encode(k) + encode(v) for k, v in sorted(value.items())) + b"e"


def first_form(
    files: Mapping[str, bytes], name: str = "our mods", info: dict[bytes, Any] | None = None
) -> dict[bytes, Any]:
    """Return what a torrent by BEP 3 says of files; ``info`` replaces some of it."""
    content = b"".join(files.values())
    pieces = [
        hashlib.sha1(content[at : at + PIECE]).digest() for at in range(0, len(content), PIECE)
    ]
    listed = [
        {b"length": len(each), b"path": [part.encode() for part in path.split("/")]}
        for path, each in files.items()
    ]
    said = {b"name": name.encode(), b"piece length": PIECE, b"pieces": b"".join(pieces)}
    return {b"info": said | {b"files": listed} | (info or {})}


class TorrentTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = self.enterContext(tempfile.TemporaryDirectory())
        self.file = os.path.join(self.folder, "list.torrent")

    def read(self, document: Any) -> Any:
        with open(self.file, "wb") as file:
            file.write(document if isinstance(document, bytes) else encode(document))
        return read_torrent_file(self.file)

    def states(self, torrent: Any, folder: str) -> dict[str, str]:
        return {each.entry.path: each.state for each in check_files(torrent, folder)}

    @given(files=WORLDS, dice=st.randoms(use_true_random=False))
    def test_a_wrong_byte_and_a_file_that_is_gone_are_told(self, files: Any, dice: Any) -> None:
        with tempfile.TemporaryDirectory() as folder:
            torrent = self.read(first_form(files))
            write_tree(os.path.join(folder, "our mods"), files)
            found = find_files(torrent, [folder])
            self.assertEqual(found, os.path.join(folder, "our mods"))
            self.assertEqual(set(self.states(torrent, found).values()), {"whole"})
            starts, at = {}, 0
            for path, content in files.items():
                starts[path], at = at, at + len(content)
            pieces = {
                path: set(range(start // PIECE, (start + len(files[path]) - 1) // PIECE + 1))
                for path, start in starts.items()
                if files[path]
            }
            if not pieces:
                return
            victim = dice.choice(sorted(pieces))
            byte = dice.randrange(len(files[victim]))
            wrong = {(starts[victim] + byte) // PIECE}
            content = bytearray(files[victim])
            content[byte] ^= 1
            write_tree(found, {victim: bytes(content)})
            expected = {
                path: "damaged" if pieces.get(path, set()) & wrong else "whole" for path in files
            }
            self.assertEqual(self.states(torrent, found), expected)
            os.unlink(os.path.join(found, victim))
            lost = pieces[victim]
            expected = {
                path: "unsure" if pieces.get(path, set()) & lost else "whole" for path in files
            }
            self.assertEqual(self.states(torrent, found), expected | {victim: "missing"})

    @unittest.skipUnless(find_spec("libtorrent"), "libtorrent is not installed")
    @given(files=WORLDS.filter(lambda files: any(files.values())), form=st.sampled_from([0, 1, 2]))
    @example(files={"a": bytes(100_000), "b": b"x" * 16_385}, form=2)
    @example(files={"a": bytes(100_000), "b": b"x" * 16_385}, form=0)
    def test_torrents_that_another_library_made(self, files: Any, form: int) -> None:
        import libtorrent as lt

        with tempfile.TemporaryDirectory() as folder:
            write_tree(os.path.join(folder, "ours"), files)
            entries = [lt.create_file_entry(f"ours/{name}", len(files[name])) for name in files]
            flags = (0, lt.create_torrent.v1_only, lt.create_torrent.v2_only)[form]
            made = lt.create_torrent(entries, 16_384, flags)
            made.add_url_seed("https://files.example/there/")
            lt.set_piece_hashes(made, folder)
            torrent = self.read(lt.bencode(made.generate()))
            self.assertEqual(
                {each.path: each.size for each in torrent.entries}.keys(), files.keys()
            )
            self.assertEqual(
                set(self.states(torrent, find_files(torrent, [folder])).values()), {"whole"}
            )
            entry = torrent.entries[0]
            self.assertTrue(
                torrent.addresses(entry)[0].startswith("https://files.example/there/ours/")
            )
            victim = max(files, key=lambda name: len(files[name]))
            changed = bytearray(files[victim])
            changed[-1] ^= 1
            write_tree(os.path.join(folder, "ours"), {victim: bytes(changed)})
            states = self.states(torrent, os.path.join(folder, "ours"))
            self.assertEqual(states[victim], "damaged")

    def test_the_fullest_folder_is_found_wherever_it_is(self) -> None:
        files = {"a.zip": b"a" * 2000, "sub/b.zip": b"b" * 1500}
        torrent = self.read(first_form(files))
        for where in ("our mods", "", "our mods/our mods", "renamed", "our mods/deeper"):
            with tempfile.TemporaryDirectory() as folder:
                write_tree(os.path.join(folder, where), files)
                write_tree(folder, {"other/a.zip": b"short"})
                found = find_files(torrent, [folder])
                self.assertEqual(os.path.normpath(os.path.join(folder, where)), found, where)
        single = {b"name": b"a.zip", b"piece length": PIECE, b"length": 5}
        single[b"pieces"] = hashlib.sha1(b"12345").digest()
        torrent = self.read({b"info": single, b"url-list": b"http://files.example/a.zip"})
        self.assertTrue(torrent.is_one_file)
        self.assertEqual(torrent.addresses(torrent.entries[0]), ("http://files.example/a.zip",))
        write_tree(self.folder, {"downloads/a.zip": b"12345"})
        found = find_files(torrent, [self.folder])
        self.assertEqual(found, os.path.join(self.folder, "downloads"))
        self.assertEqual(self.states(torrent, found), {"": "whole"})

    def test_a_link_is_not_followed(self) -> None:
        torrent = self.read(first_form({"a.zip": b"secret"}))
        write_tree(self.folder, {"elsewhere": b"secret"})
        os.mkdir(os.path.join(self.folder, "our mods"))
        os.symlink("../elsewhere", os.path.join(self.folder, "our mods", "a.zip"))
        states = self.states(torrent, os.path.join(self.folder, "our mods"))
        self.assertEqual(states, {"a.zip": "missing"})

    def test_what_a_torrent_may_not_say(self) -> None:
        good = {"a.zip": b"12345"}
        tree = {b"a.zip": {b"": {b"length": 5, b"pieces root": bytes(32)}}}
        deep = b"d4:info" + b"l" * 60 + b"e" * 60 + b"e"
        for document, words in (
            (first_form({"../a": b"1"}), "leaves its place"),
            (first_form({"a/../../b": b"1"}), "leaves its place"),
            (first_form(good, name=".."), "leaves its place"),
            (first_form(good, name="/etc"), "no path"),
            (first_form(good, name="c:x"), "no path"),
            (first_form(good | {"A.ZIP": b"1"}), "two of one name"),
            (first_form(good, info={b"pieces": b""}), "not as many"),
            (first_form(good, info={b"piece length": 0}), "no size"),
            (first_form(good, info={b"piece length": 1 << 60}), "no size"),
            (first_form(good, info={b"files": [{b"length": -1, b"path": [b"a"]}]}), "no size"),
            (first_form(good, info={b"files": [{b"length": 1, b"path": []}]}), "no path"),
            (
                first_form(good, info={b"files": [{b"length": 5, b"path": [b"a"], b"attr": b"l"}]}),
                "link",
            ),
            (first_form(good, info={b"file tree": tree | {b"b": tree[b"a.zip"]}}), "not the same"),
            ({b"info": {b"name": b"x"}}, "it has no file"),
            ({}, "is not there"),
            (deep, "nested"),
            (b"i5", "no number"),
            (b"5:ab", "cut off"),
            (b"<html>", "no such data"),
        ):
            with self.subTest(words), self.assertRaisesRegex(TorrentFault, words):
                self.read(document)

    @given(at=st.floats(0, 1), junk=st.binary(max_size=6), cut=st.booleans())
    def test_a_torrent_with_anything_in_it_is_read_or_refused(
        self, at: float, junk: bytes, cut: bool
    ) -> None:
        content = encode(first_form({"a.zip": b"12345", "b": b"67"}))
        place = int(at * len(content))
        damaged = content[:place] + junk + (b"" if cut else content[place + len(junk) :])
        try:
            torrent = self.read(damaged)
        except TorrentFault:
            return
        self.assertLessEqual(len(check_files(torrent, self.folder)), len(damaged))

    @given(
        st.recursive(
            st.integers(-(10**18), 10**18) | st.binary(max_size=9),
            lambda inner: st.lists(inner) | st.dictionaries(st.binary(max_size=4), inner),
        )
    )
    def test_what_was_encoded_is_decoded(self, value: Any) -> None:
        self.assertEqual(decode(encode(value)), value)
