"""Packs and deltas of contents that are drawn, and the limits that hold against hostile ones."""

from __future__ import annotations

import io
import json
import os
import random
import tempfile
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.feed.delta import (
    Sides,
    apply_delta,
    new_index,
    read_head,
    read_recipe,
    write_delta,
)
from rellum.core.feed.feed_index import (
    FeedFault,
    Index,
    index_text,
    pack_text,
    read_index,
    unpack_text,
)
from rellum.core.feed.matching import Named
from rellum.core.feed.packing import Source, write_packs
from rellum.core.hashing import Digest, hash_bytes
from rellum.core.patching.making import make_zstd


def sides_of(old: list[Named], new: list[Named]) -> Sides:
    return Sides.of((each.digest for each in old), (each.digest for each in new))


def edited(dice: random.Random, content: bytes) -> bytes:
    """Return a content with a few pieces taken out, put in, moved, or changed."""
    for _ in range(dice.randrange(4)):
        at, size = dice.randrange(len(content) + 1), dice.randrange(3000)
        content = dice.choice(
            (
                content[:at] + content[at + size :],
                content[:at] + dice.randbytes(size) + content[at:],
                content[at:] + content[:at],
                content[:at] + content[at : at + size][::-1] + content[at + size :],
            )
        )
    return content


class DeltaTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = self.enterContext(tempfile.TemporaryDirectory())

    def named(self, path: str, content: bytes) -> Named:
        digest = hash_bytes(content)
        file = os.path.join(self.folder, digest)
        with open(file, "wb") as stream:
            stream.write(content)
        return Named(path, digest, file)

    def made(self, old: list[Named], new: list[Named]) -> tuple[bytes, dict[str, bytes]]:
        """Return the delta, and what it makes."""
        out = io.BytesIO()
        sides = sides_of(old, new)
        write_delta(sides, old, new, b"the old index", b"the new index", out)
        delta = out.getvalue()
        head = read_head(delta[:16])
        self.assertEqual(new_index(delta[: head.index_end], b"the old index"), b"the new index")
        recipe = read_recipe(delta[head.index_end : head.recipe_end], sides)
        made = os.path.join(self.folder, "made")
        os.makedirs(made, exist_ok=True)
        files = {each.digest: each.file for each in old}
        rest = io.BytesIO(delta[head.recipe_end :])
        apply_delta(recipe, rest, files, lambda digest: os.path.join(made, digest))
        found = {}
        for each in new:
            with open(os.path.join(made, each.digest), "rb") as file:
                found[each.path] = file.read()
        return delta, found

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 10**9))
    def test_what_it_makes_is_the_new_version(self, seed: int) -> None:
        dice = random.Random(seed)
        old = {f"f{n}": dice.randbytes(dice.randrange(60_000)) for n in range(dice.randrange(5))}
        new = {dice.choice((name, f"{name}-2")): edited(dice, each) for name, each in old.items()}
        new |= {"new": dice.randbytes(dice.randrange(5000)), "empty": b""}
        _, found = self.made(
            [self.named(*each) for each in old.items()], [self.named(*each) for each in new.items()]
        )
        self.assertEqual(found, new)

    def test_it_is_as_large_as_what_changed(self) -> None:
        dice = random.Random(2)
        texts = [
            b" ".join(dice.choices([b"tide", b"lamp", b"rope", b"chart"], k=400))
            for _ in range(300)
        ]
        old = [self.named(f"a{n}.txt", each) for n, each in enumerate(texts)]
        new = [
            self.named(f"a{n}.txt", each.replace(b"lamp rope", b"lamp reef", 1))
            for n, each in enumerate(texts)
        ]
        delta, _ = self.made(old, new)
        each_alone = sum(
            len(make_zstd(one, one.replace(b"lamp rope", b"lamp reef", 1)) or b"") for one in texts
        )
        self.assertLess(len(delta), 1.2 * each_alone)
        large = dice.randbytes(3_000_000)
        moved = large[1_500_000:] + b"between" + large[:1_500_000]
        delta, _ = self.made([self.named("l", large)], [self.named("l", moved)])
        self.assertLess(len(delta), 40_000)

    def test_a_damaged_delta_is_refused(self) -> None:
        old, new = b"old content" * 900, b"old content" * 400 + b"new" + b"old content" * 500
        out = io.BytesIO()
        before = [self.named("x", old)]
        after = [self.named("x", new)]
        sides = sides_of(before, after)
        write_delta(sides, before, after, b"", b"index", out)
        delta = out.getvalue()
        dice = random.Random(1)
        refused = 0
        made = os.path.join(self.folder, "broken")
        for _ in range(150):
            broken = bytearray(delta)
            if dice.random() < 0.3:
                broken = broken[: dice.randrange(len(broken))]
            else:
                broken[dice.randrange(len(broken))] ^= 1 << dice.randrange(8)
            try:
                head = read_head(bytes(broken[:16]))
                recipe = read_recipe(bytes(broken[head.index_end : head.recipe_end]), sides)
                rest = io.BytesIO(bytes(broken[head.recipe_end :]))
                apply_delta(
                    recipe, rest, {each.digest: each.file for each in before}, lambda _: made
                )
            except FeedFault:
                refused += 1
                continue
            with open(made, "rb") as file:  # the bit was in the part that nobody read
                self.assertEqual(file.read(), new)
        self.assertGreater(refused, 80)

    def test_a_recipe_that_lies_is_refused(self) -> None:
        sides = Sides((Digest("1" * 64),), (Digest("2" * 64),))
        honest = {"files": [[0, 5, [0, 0, 5]]], "segments": []}
        read_recipe(pack_text(json.dumps(honest).encode()), sides)
        for change in (
            {"files": [[0, 6, [0, 0, 5]]]},
            {"files": [[0, 5, [1, 0, 5]]]},
            {"files": [[0, 5, [0, -1, 5]]]},
            {"files": [[0, 5, [0, 0, "5"]]]},
            {"files": [[1, 5, [0, 0, 5]]]},
            {"files": [[-1, 5, [0, 0, 5]]]},
            {"segments": [[1, 1 << 30, []]]},
            {"segments": [[1, 5, [0, 0, 1 << 30]]]},
            {"segments": [[1, 5, [3, 0, 1]]]},
            {"files": None},
        ):
            with self.subTest(change=change), self.assertRaises(FeedFault):
                read_recipe(pack_text(json.dumps({**honest, **change}).encode()), sides)
        bomb = pack_text(b"\0" * (1 << 27))
        with self.assertRaises(FeedFault):
            read_recipe(bomb, sides)


class PackingTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = self.enterContext(tempfile.TemporaryDirectory())
        self.objects: dict[str, bytes] = {}

    def sources(self, contents: dict[str, bytes]) -> list[Source]:
        found = []
        for path, content in contents.items():
            digest = hash_bytes(content)
            file = os.path.join(self.folder, digest)
            with open(file, "wb") as stream:
                stream.write(content)
            found.append(Source(path, len(content), digest, file))
        return found

    def published(
        self, version: int, contents: dict[str, bytes], before: Index | None = None
    ) -> Index:
        packs, files = write_packs(self.sources(contents), before, self.objects.__setitem__)
        return Index(version, {}, tuple(packs), tuple(files))

    def read(self, index: Index, path: str) -> bytes:
        found = b""
        for span in index.by_path[path].spans:
            pack = index.packs[span.pack]
            frame = pack.frames[span.frame]
            packed = self.objects[f"packs/{pack.name}.pack"][
                frame.offset : frame.offset + frame.packed
            ]
            found += unpack_text(packed, most=frame.size)[span.offset : span.offset + span.size]
        return found

    def test_every_file_is_found_again_and_nothing_is_written_twice(self) -> None:
        dice = random.Random(6)
        contents = {f"small/{n}": dice.randbytes(dice.randrange(9000)) for n in range(600)}
        contents |= {"large": dice.randbytes(70 << 20), "empty": b"", "same": contents["small/3"]}
        first = self.published(1, contents)
        self.assertEqual(
            read_index(index_text(first), 1), first._replace(files=tuple(sorted(first.files)))
        )
        for path, content in contents.items():
            self.assertEqual(self.read(first, path), content, path)
        written = set(self.objects)
        contents["small/5"] = b"changed"
        second = self.published(2, contents, first)
        [more] = set(self.objects) - written
        self.assertLess(len(self.objects[more]), 100)
        for path, content in contents.items():
            self.assertEqual(self.read(second, path), content, path)

    def test_an_index_that_lies_is_refused(self) -> None:
        index = self.published(1, {"a": b"a" * 100, "b": b"b"})
        honest = json.loads(index_text(index))
        read_index(json.dumps(honest).encode(), 1)
        name = honest["packs"][0][0]
        changes: tuple[dict[str, object], ...] = (
            {"format": 2},
            {"version": 2},
            {"files": [["../a", 100, "0" * 64, [0, 0, 0, 100]]]},
            {"files": [["/a", 100, "0" * 64, [0, 0, 0, 100]]]},
            {"files": [["a", 100, "0" * 64, [0, 0, 0, 99]]]},
            {"files": [["a", 100, "0" * 64, [0, 0, 50, 100]]]},
            {"files": [["a", 100, "0" * 64, [0, 7, 0, 100]]]},
            {"files": [["a", 100, "x", [0, 0, 0, 100]]]},
            {"files": [["a", 1, "0" * 64, [0, 0, 0, 1]], ["A", 1, "0" * 64, [0, 0, 0, 1]]]},
            {"files": [["a", 1.0, "0" * 64, [0, 0, 0, 1]]]},
            {"packs": [["../../x", [1, 100]]]},
            {"packs": [[name, [1, 1 << 40]]]},
            {"packs": [[name, [1]]]},
            {"facts": []},
        )
        for change in changes:
            with self.subTest(change=change), self.assertRaises(FeedFault):
                read_index(json.dumps({**honest, **change}).encode(), 1)
        self.assertEqual(len(Digest(name)), 64)


if __name__ == "__main__":
    unittest.main()
