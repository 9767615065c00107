"""The journal: read back as written, and a torn write is never taken for a whole one."""

from __future__ import annotations

import os
import tempfile
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.change.journal import (
    Journal,
    PackChange,
    Step,
    append_ready,
    note_undo,
    write_begin,
)
from rellum.core.change.journal_lines import line_of
from rellum.core.change.journal_reading import JournalDamaged, NewerJournal, Salvage, read_journal
from rellum.core.hashing import Digest
from rellum.core.pack.disk import Disk
from rellum.core.pack.kept_copies import Kept
from rellum.core.values.content import Content, Laid
from rellum.core.values.ids import ModId, ReleaseName
from rellum.core.values.owners import LOAD_ORDER, VANILLA
from rellum.core.values.paths import PlacePath, Roots
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
    brings=st.just((Digest("a" * 64),)),
    steps=st.lists(
        st.builds(Step, path=paths, before=maybe, after=maybe, staged=st.just("7")), max_size=3
    ).map(tuple),
    new_folders=st.lists(paths, max_size=2).map(tuple),
    spare_folders=st.lists(paths, max_size=2).map(tuple),
    laid=st.lists(
        st.builds(
            Laid,
            path=paths,
            owner=st.sampled_from((VANILLA, LOAD_ORDER, ReleaseName(ModId("a"), "1 b", "c"))),
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
            owner=st.sampled_from((None, VANILLA, ReleaseName(ModId("a"), "1"))),
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

    @given(journals, st.data())
    def test_torn_is_taken_back_and_damaged_is_never_acted_on(self, journal, data) -> None:
        whole = self.write(journal)
        begin_ends = whole.index(b"\n") + 1
        ready_ends = len(whole) - 64
        length = data.draw(st.integers(begin_ends, len(whole)))
        self.put(whole[:length])
        found = read_journal(self.path)
        assert found
        self.assertEqual((found.id, found.is_ready), (journal.id, length >= ready_ends))
        if found.is_ready:
            self.assertEqual(found, journal)
        for start in range(0, ready_ends, 7):
            position = data.draw(st.integers(start, min(start + 6, ready_ends - 1)))
            bit = bytes([whole[position] ^ 1 << data.draw(st.integers(0, 7))])
            self.put(whole[:position] + bit + whole[position + 1 :])
            salvage = self.damaged()
            self.assertLessEqual(set(salvage.journal.steps), set(journal.steps))
            if salvage.has_extent:
                self.assertEqual(salvage.lost, len(journal.steps) - len(salvage.journal.steps))
        position = data.draw(st.integers(ready_ends, len(whole) - 1))
        self.put(whole[:position] + b"~" + whole[position + 1 :])
        found = read_journal(self.path)
        assert found  # in the place of 'undo': then it is taken back, which is always possible
        self.assertTrue(found.is_ready and found.is_undoing)

    def damaged(self) -> Salvage:
        with self.assertRaises(JournalDamaged) as caught:
            read_journal(self.path)
        return caught.exception.salvage

    @given(journals, st.integers(1, 99))
    def test_zeros_and_nothing_are_damage(self, journal, count) -> None:
        whole = self.write(journal)
        begin_ends = whole.index(b"\n") + 1
        for content in (b"", b"\0" * count, whole[:begin_ends] + b"\0" * count):
            self.put(content)
            self.damaged()

    def test_another_format_is_refused(self) -> None:
        self.put(line_of(0, {"begin": {"format": 99}}))
        with self.assertRaises(NewerJournal):
            read_journal(self.path)

    def put(self, content: bytes) -> None:
        with open(self.path, "wb") as file:
            file.write(content)

    def test_none(self) -> None:
        self.assertIsNone(read_journal(self.path))


if __name__ == "__main__":
    unittest.main()
