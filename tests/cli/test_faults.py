"""Calls to the system that fail below the program, SQLite's included: what is said last is so.

``strace`` lets them fail. ``tools/fault_calls.py`` goes through all of them; here are some.
"""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
import unittest
from collections import Counter
from collections.abc import Iterator
from typing import NamedTuple

from rellum.core.pack.home import PackHome, pack_texts
from tests.core.change.test_interruption import Stage, first_apply, rewound, swept
from tests.support import Entry, World, WorldTest, without_marker

CALLS = (
    "fdatasync", "fsync", "syncfs", "pwrite64", "pread64", "write", "read", "openat", "unlink", "rename",
    "link",
)  # fmt: skip
ERRORS = ("ENOSPC", "EIO", "EACCES", "EROFS", "EMFILE")
WORDS = {
    first_apply: ("apply", "--yes"),
    rewound: ("rewind", "2", "--yes"),
    swept: ("sweep", "--yes"),
}
Tree = dict[str, Entry]


class Fault(NamedTuple):
    """A call that fails: the so-manieth of its kind on the files that are watched."""

    call: str
    number: int
    error: str


def strace(world: World, *options: str) -> list[str]:
    """Return the command that watches the files of a world."""
    pack, game = world.path("pack"), world.path("game")
    names = ("rellum.toml", "rellum.toml.rellum-new", "rellum.lock", "rellum.lock.rellum-new")
    watched = [os.path.join(pack, name) for name in names]
    state = os.path.join(pack, ".rellum")
    kept = ("state.db", "state.db-journal", "journal", "journal.rellum-new", "originals")
    watched += [os.path.join(state, name) for name in kept]
    for folder, folders, files in os.walk(game):
        watched += [os.path.join(folder, name) for name in (*folders, *files)]
    paths = [each for path in watched for each in ("-P", path)]
    return ["strace", "-f", "-qq", "-o", os.path.join(world.root, "calls"), *paths, *options]


def can_trace() -> bool:
    """Whether there is a strace that may watch a process here."""
    if shutil.which("strace") is None:
        return False
    tried = subprocess.run(["strace", "-qq", "-o", os.devnull, "true"], capture_output=True)
    return tried.returncode == 0


class Struck(WorldTest):
    """The program is run while one call fails."""

    def run_struck(self, world: World, words: tuple[str, ...], *options: str) -> tuple[int, str]:
        command = [*strace(world, *options), sys.executable, "-m", "rellum", *words]
        variables = {**os.environ, "RELLUM_SHELF": world.path("shelf"), "PYTHONUTF8": "1"}
        said = subprocess.run(
            command,
            cwd=world.path("pack"),
            env=variables,
            capture_output=True,
            text=True,
            timeout=300,
        )
        return said.returncode, said.stdout + said.stderr

    def calls(self, stage: Stage, words: tuple[str, ...]) -> Counter[str]:
        """Return how often each call is made."""
        stage.reset()
        self.run_struck(stage.world, words, "-e", f"trace={','.join(CALLS)}")
        with open(stage.world.path("calls"), encoding="utf-8", errors="replace") as file:
            found = (line.split(None, 1)[1].partition("(")[0] for line in file if "(" in line)
            return Counter(found)

    def faults(self, stage: Stage, words: tuple[str, ...]) -> Iterator[Fault]:
        for call, count in sorted(self.calls(stage, words).items()):
            for number in range(1, count + 1):
                yield Fault(call, number, ERRORS[number % len(ERRORS)])

    def strike(self, stage: Stage, words: tuple[str, ...], fault: Fault) -> None:
        """Let a call fail, and hold the last words to what is there."""
        stage.reset()
        world = stage.world
        call, number, error = fault
        inject = f"inject={call}:error={error}:when={number}"
        status, said = self.run_struck(world, words, "-e", f"trace={call}", "-e", inject)
        self.assertNotIn("Traceback", said)
        tree, texts = self.now(world)
        if status == 4:
            self.assertRegex(said, "goes on|stays")
        elif status in (2, 3) or "othing was changed" in said or "taken back" in said:
            self.assertEqual((tree, texts), (stage.before, stage.texts_before), said)
        else:
            self.assertEqual((status, tree, texts), (0, stage.after, stage.texts_after), said)
        after = world.run("check")  # the next command brings it to an end
        self.assertIn(after.returncode, (0, 1), after.stderr)
        self.assertIn(
            self.now(world),
            ((stage.before, stage.texts_before), (stage.after, stage.texts_after)),
            said,
        )

    def now(self, world: World) -> tuple[Tree, object]:
        return without_marker(world.game()), pack_texts(PackHome(world.path("pack")))


@unittest.skipUnless(can_trace(), "strace is not here, or may not watch processes")
class FaultsTest(Struck):
    EACH = 11

    def test_what_is_said_last_is_so(self) -> None:
        dice = random.Random(5)
        for scenario, words in WORDS.items():
            self.setUp()
            stage = Stage(self.world, scenario)
            self.addCleanup(stage.close)
            found = list(self.faults(stage, words))
            of_sqlite = [
                each for each in found if each.call in ("fdatasync", "pwrite64", "pread64")
            ]
            for fault in dice.sample(found, self.EACH) + dice.sample(of_sqlite, self.EACH):
                with self.subTest(scenario=scenario.__name__, fault=fault):
                    self.strike(stage, words, fault)


if __name__ == "__main__":
    unittest.main()
