"""A long lock read at once, or remembered, is what it is read key by key; a faulty one is left to that."""

from __future__ import annotations

import os
import tempfile
import unittest
from dataclasses import replace
from random import Random
from typing import Any
from unittest import mock

import tomli
from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.catalog.release_rules import ReleaseFile, Source
from rellum.core.pack import lock_file
from rellum.core.pack.home import PackHome
from rellum.core.pack.lock_file import LockedRelease, LockFile, lock_text, read_lock, read_lock_text
from rellum.core.values.ids import ModId, SheetId
from rellum.core.versions.orderings import parse_version

TEXTS = ("3.2", "Spring Tide", 'a "quoted" one', "über", "a\tb\\c", "#x")
WRONG: tuple[Any, ...] = (
    "",
    " ",
    3,
    -1,
    True,
    1 << 63,
    [],
    ["a", ""],
    {},
    {"high": []},
    "G" * 64,
    "A" * 64,
)


def draw_release(source: Random, number: int) -> LockedRelease:
    def some(values: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(source.sample(values, source.choice((0, 0, 1, 2))))

    def hash_() -> str | None:
        return source.choice((None, source.randbytes(32).hex()))

    files = [
        ReleaseFile(
            name=source.choice(TEXTS), size=source.choice((None, 7)), sha256=hash_(), blake3=hash_()
        )
        for _ in range(source.choice((0, 1, 1, 2)))
    ]
    return LockedRelease(
        mod=ModId(f"mod-{number}"),
        version=source.choice(TEXTS),
        build=source.choice(("", "harbour")),
        because=tuple(map(ModId, some(("a", "b-c")))),
        options=tuple(sorted((group, some(("x", "y")) or ("z",)) for group in some(("g", "h")))),
        trial=source.choice(("", "works on game 1.7.0")),
        files=tuple(files),
        source=Source(file="x", key=("release", number)),
        check_by_hand=some(TEXTS),
    )


def draw_lock(source: Random) -> LockFile:
    releases = tuple(draw_release(source, number) for number in range(source.randrange(1, 6)))
    return LockFile(
        asked="x",
        sheet=SheetId("fathomline"),
        game_version=parse_version("1.6.0"),
        edition=None,
        expansions=(),
        releases=releases,
    )


class PlainLockTest(unittest.TestCase):
    def both(self, text: str) -> tuple[LockFile | None, LockFile | None]:
        """Read a lock at once, and key by key; None: it has mistakes."""
        found = []
        for many in (0, 1 << 30):
            with mock.patch.object(lock_file, "_MANY", many):
                found.append(read_lock_text(text, "x"))
        return found[0], found[1]

    @settings(max_examples=150, deadline=None)
    @given(st.integers(0, 2**32).map(Random))
    def test_both_ways_say_the_same(self, source) -> None:
        lock = draw_lock(source)
        text = lock_text(lock)
        at_once, by_key = self.both(text)
        self.assertEqual(at_once, by_key)
        self.assertEqual(at_once, lock)

        changed = tomli.loads(text)
        table = source.choice(changed["release"])
        if table.get("file") and source.random() < 0.5:
            table = source.choice(table["file"])
        table[source.choice((*table, "size", "sha256", "options", "unknown"))] = source.choice(
            WRONG
        )
        with mock.patch.object(tomli, "loads", lambda _: changed):
            at_once, by_key = self.both(text)
        self.assertEqual(at_once, by_key)


class RememberedLockTest(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 2**32).map(Random))
    def test_what_is_remembered_is_what_the_file_says(self, source) -> None:
        with tempfile.TemporaryDirectory() as folder, mock.patch.object(lock_file, "_MANY", 0):
            home = PackHome(folder)
            for _ in range(3):
                lock = draw_lock(source)
                with open(home.lock_file, "w", encoding="utf-8") as file:
                    file.write(lock_text(lock))
                self.assertEqual(placeless(read_lock(home)), placeless(lock))
                with mock.patch.object(lock_file, "parse_toml", side_effect=AssertionError):
                    self.assertEqual(placeless(read_lock(home)), placeless(lock))
                self.damage(os.path.join(home.state_folder, "answers", "line-up"), source)
                self.assertEqual(placeless(read_lock(home)), placeless(lock))

    def damage(self, file: str, source: Random) -> None:
        with open(file, "r+b") as stream:
            content = bytearray(stream.read())
            content[source.randrange(len(content))] ^= 1 << source.randrange(8)
            stream.seek(0)
            stream.write(content)
            stream.truncate(source.choice((len(content), source.randrange(len(content)))))


def placeless(lock: LockFile) -> LockFile:
    """Return a line-up whose releases do not say where they stand."""
    nowhere = Source(file="", key=())
    return replace(lock, releases=tuple(replace(each, source=nowhere) for each in lock.releases))


if __name__ == "__main__":
    unittest.main()
