"""The journal: read back as written, and a torn write is never taken for a whole one."""

from __future__ import annotations

import os
import tempfile
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.change.disk import Disk
from rellum.core.change.journal import (
    Journal,
    PackChange,
    Step,
    append_ready,
    note_undo,
    read_journal,
    write_begin,
)
from rellum.core.folder.content import Content, Laid
from rellum.core.hashing import Digest
from rellum.core.pack.kept import Kept
from rellum.core.paths import PlacePath, Roots
from tests.support import memory_folder

paths = st.text(st.characters(blacklist_characters="\0"), min_size=1, max_size=9).map(
    lambda text: PlacePath(f"@game/{text}")
)
contents = st.builds(
    Content,
    digest=st.just(Digest("d" * 64)),
    size=st.integers(0, 1 << 60),
    mode=st.integers(0, 0o7777),
    mtime_ns=st.integers(0, 1 << 62),
)
maybe = st.one_of(st.none(), contents)
journals = st.builds(
    Journal,
    id=st.just("0123"),
    action=st.just("apply"),
    roots=st.just(Roots("/game", {"@settings": "/home/settings"})),
    made_for_roots=st.just(("/home/settings",)),
    steps=st.lists(
        st.builds(Step, path=paths, before=maybe, after=maybe, staged=st.just("7")), max_size=3
    ).map(tuple),
    new_folders=st.lists(paths, max_size=2).map(tuple),
    spare_folders=st.lists(paths, max_size=2).map(tuple),
    laid=st.lists(
        st.builds(
            Laid,
            path=paths,
            owner=st.just("a 1"),
            content=maybe,
            under=maybe,
            role=st.sampled_from(("", "merge", "mine")),
            base=st.one_of(st.none(), st.just(Digest("f" * 64))),
        ),
        max_size=2,
    ).map(tuple),
    no_longer_laid=st.lists(paths, max_size=2).map(tuple),
    kept=st.lists(
        st.builds(
            Kept,
            path=paths,
            digest=st.just(Digest("e" * 64)),
            size=st.just(1),
            aside_for=st.sampled_from(("", "tides")),
            owner=st.sampled_from(("", "vanilla")),
            base=st.sampled_from((None, Digest("b" * 64))),
            mode=st.sampled_from((None, 0o644)),
            number=st.just(0),
            kept_at=st.just(""),
            action=st.just(""),
        ),
        max_size=1,
    ).map(tuple),
    bases_before=st.just((Digest("b" * 64),)),
    settings=st.lists(st.tuples(paths, contents), max_size=1).map(tuple),
    pack=st.sampled_from((PackChange(), PackChange(becoming=(("a", "b\udc80"),), writes=("a",)))),
    standing=st.sampled_from((None, (("rellum.toml", "ä\n"),))),
    baseline=st.just(
        ((PlacePath("@game/a"), None), (PlacePath("@game/b"), ("@game/b", "file", 1)))
    ),
    identity=st.sampled_from(("", "[]")),
    swept_to=st.sampled_from(("", "/away")),
    others_folders=st.lists(paths, max_size=1).map(tuple),
    swept=st.lists(paths, max_size=1).map(tuple),
    kept_gone=st.sampled_from(((), (3,))),
    unsure=st.lists(paths, max_size=1).map(tuple),
    modes=st.lists(st.tuples(paths, st.just(0o644), st.just(0o444)), max_size=1).map(tuple),
    guarded=st.sampled_from((None, (), ((PlacePath("@game/u"), 0o644),))),
    stood=st.lists(st.tuples(paths, st.none() | contents), max_size=1).map(tuple),
    returned=st.lists(paths, max_size=1).map(tuple),
    is_ready=st.just(True),
    is_undoing=st.just(False),
)


class JournalTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(dir=memory_folder())
        self.addCleanup(folder.cleanup)
        self.path = os.path.join(folder.name, "journal")

    def write(self, journal: Journal) -> bytes:
        write_begin(self.path, journal, Disk())
        append_ready(self.path, journal, Disk())
        with open(self.path, "rb") as file:
            return file.read()

    @given(journals)
    def test_reads_back_as_written(self, journal) -> None:
        self.write(journal)
        self.assertEqual(read_journal(self.path), journal)
        note_undo(self.path, Disk())
        size = os.path.getsize(self.path)
        found = read_journal(self.path)
        assert found
        self.assertTrue(found.is_ready and found.is_undoing)
        note_undo(self.path, Disk())
        self.assertEqual(os.path.getsize(self.path), size)

    def test_cut_anywhere_or_with_any_byte_wrong(self) -> None:
        content = Content(digest=Digest("d" * 64), size=1, mode=0o644, mtime_ns=5)
        step = Step(path=PlacePath("@game/a"), before=None, after=content, staged="0")
        journal = Journal(
            id="0123",
            action="apply",
            roots=Roots("/g"),
            steps=(step,),
            is_ready=True,
        )
        whole = self.write(journal)
        begin_ends = whole.index(b"\n") + 1
        ready_ends = len(whole) - 64 - 1
        for length in range(len(whole)):
            self.put(whole[:length])
            found = read_journal(self.path)
            if length < begin_ends - 1:
                self.assertIsNone(found, length)
            else:
                assert found
                self.assertEqual(found.is_ready, length >= ready_ends, length)
        for position in range(begin_ends, ready_ends):
            self.put(whole[:position] + b"~" + whole[position + 1 :])
            found = read_journal(self.path)
            self.assertFalse(found and found.is_ready, position)

    def put(self, content: bytes) -> None:
        with open(self.path, "wb") as file:
            file.write(content)

    def test_none(self) -> None:
        self.assertIsNone(read_journal(self.path))
        self.put(b"")
        self.assertIsNone(read_journal(self.path))


if __name__ == "__main__":
    unittest.main()
