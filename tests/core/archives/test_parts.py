"""Archives in parts: told by name and content, in any order, and joined as they are read."""

from __future__ import annotations

import os
import struct
import tempfile
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.archives.parts import Part, gather, part_by_name, part_of
from rellum.core.joined_file import JoinedFile


class NamesTest(unittest.TestCase):
    def test_what_is_a_part(self) -> None:
        for name, expected in (
            ("lamps.7z.001", ("numbered", "lamps.7z", 1)),
            ("lamps.zip.012", ("numbered", "lamps.zip", 12)),
            ("lamps.000", ("numbered", "lamps", 0)),
            ("Lamps.Z03", ("split-zip", "Lamps", 3)),
            ("lamps.part2.rar", ("rar", "lamps", 2)),
            ("lamps.r07", ("rar", "lamps", 7)),
        ):
            part = part_by_name(name)
            assert part
            self.assertEqual((part.kind, part.stem, part.number), expected)
        for name in (
            "lamps.zip",
            "lamps.7z",
            "lamps-1.0.12",
            "lamps.z1",
            "001",
            ".001",
            "lamps.rar",
        ):
            self.assertIsNone(part_by_name(name), name)


class GatherTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = folder.name

    def write(self, name: str, content: bytes) -> str:
        path = os.path.join(self.folder, name)
        with open(path, "wb") as file:
            file.write(content)
        return path

    @settings(max_examples=80, deadline=None)
    @given(
        st.integers(2, 14).flatmap(
            lambda count: st.tuples(
                st.just(count), st.sets(st.integers(1, count), min_size=1), st.booleans()
            )
        ),
        st.randoms(use_true_random=False),
    )
    def test_missing_ones_are_named(self, drawn, source) -> None:
        count, here, told_by_card = drawn
        names = {number: f"x.7z.{number:03}" for number in range(1, count + 1)}
        # The first part of a 7z tells how many bytes there are in all.
        head = b"7z\xbc\xaf\x27\x1c\0\4" + struct.pack("<LQQL", 0, 100 * (count - 1), 20 - 12, 0)
        sizes = dict.fromkeys(names, 100) | {count: 32 + 8 - 20}
        found = []
        for number in here:
            content = (head if number == 1 else b"").ljust(sizes[number], b"x")[: sizes[number]]
            part = part_by_name(names[number])
            assert part
            found.append((part, self.write(names[number], content)))
        source.shuffle(found)
        state = gather(found, tuple(names.values()) if told_by_card else ())
        self.assertEqual(
            [os.path.basename(p) for p in state.ordered], [names[n] for n in sorted(here)]
        )
        if told_by_card or 1 in here:
            missing = [names[n] for n in names if n not in here]
            self.assertEqual((state.total, list(state.missing)), (count, missing))
        else:
            gaps = [names[n] for n in range(1, max(here)) if n not in here]
            self.assertEqual((state.total, list(state.missing)), (None, gaps))

    def test_the_last_of_a_split_zip_tells_its_number(self) -> None:
        end = struct.pack("<4sHHHHLLH", b"PK\x05\x06", 3, 3, 1, 4, 40, 0, 0)
        last = part_of(self.write("s.zip", b"members" + end))
        assert last
        self.assertEqual((last.kind, last.number, last.is_last), ("split-zip", 4, True))
        whole = struct.pack("<4sHHHHLLH", b"PK\x05\x06", 0, 0, 1, 1, 40, 0, 0)
        self.assertIsNone(part_of(self.write("w.zip", b"members" + whole)))
        second = Part(kind="split-zip", stem="s", number=2, width=2)
        state = gather([(second, "b"), (last, "d")])
        self.assertEqual((state.total, state.missing), (4, ("s.z01", "s.z03")))
        self.assertEqual(gather([(second, "b")]).missing, ("s.z01", "s.zip"))
        self.assertIn("1 parts so far", gather([(second, "b")]).progress)

    @settings(max_examples=120, deadline=None)
    @given(
        st.lists(st.binary(max_size=30), min_size=1, max_size=6),
        st.lists(st.tuples(st.integers(0, 200), st.integers(0, 60)), max_size=8),
    )
    def test_joined_reads_are_reads_of_the_whole(self, pieces, reads) -> None:
        paths = [self.write(str(n), piece) for n, piece in enumerate(pieces)]
        whole = b"".join(pieces)
        asked: list[int] = []
        with JoinedFile(paths, asked.append) as file:
            self.assertEqual(file.size, len(whole))
            for offset, count in reads:
                self.assertEqual(file.read_at(offset, count), whole[offset : offset + count])
            file.seek(0)
            self.assertEqual(file.read(), whole)
            self.assertEqual(file.seek(-len(whole), os.SEEK_END), 0)
            with self.assertRaises(OSError):
                file.seek(-1)
        self.assertTrue(all(0 < offset <= len(whole) for offset in asked))


if __name__ == "__main__":
    unittest.main()
