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
from collections.abc import Callable, Iterator
from typing import NamedTuple

from rellum.core.actions.mend.rewind import list_checkpoints
from rellum.core.change.request import Request
from rellum.core.pack.home import PackHome, pack_texts
from tests.core.change.test_interruption import Stage, first_apply, rewound, swept
from tests.support import (
    Entry,
    World,
    WorldTest,
    ignore_recovery,
    snapshot,
    without_marker,
    write_tree,
)

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
            self.assertRegex(said, "continues|stays")
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
    EACH = 4

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


WRITES = ("write", "pwrite64", "rename", "link", "unlink", "mkdir", "fsync", "fdatasync")


@unittest.skipUnless(can_trace(), "strace is not here, or may not watch processes")
class KilledTest(Struck):
    """Commands that change the pack, killed at one write or another: old or new, and the next goes on."""

    def kill_each(self, words: tuple[str, ...], every: int, look: Callable[[], None]) -> None:
        """Kill a command at every so-manieth write, and ``look`` each time; then put all back."""
        saved = self.world.root + "-saved"
        shutil.copytree(self.world.root, saved)
        self.run_struck(self.world, words, "-e", f"trace={','.join(WRITES)}")
        with open(self.world.path("calls"), encoding="utf-8", errors="replace") as file:
            made = Counter(line.split(None, 1)[1].partition("(")[0] for line in file if "(" in line)
        for call, count in sorted(made.items()):
            for number in range(1, count + 1, every):
                shutil.rmtree(self.world.root)
                shutil.copytree(saved, self.world.root)
                inject = f"inject={call}:signal=KILL:when={number}"
                self.run_struck(self.world, words, "-e", f"trace={call}", "-e", inject)
                with self.subTest(words=words, call=call, number=number):
                    look()
        shutil.rmtree(saved)

    def test_adopting_can_be_done_again(self) -> None:
        words = ("adopt", "../game", "--catalog", "../catalog")

        def look() -> None:
            if self.world.run("check").returncode:
                said = self.world.run(*words)
                self.assertEqual(said.returncode, 0, said.stderr)
            self.assertEqual(self.world.run("check").returncode, 0)
            self.world.restore_all()
            self.assertEqual(self.world.game(), vanilla)

        vanilla = self.world.game()
        self.kill_each(words, 45, look)

    def test_absorbing_is_old_or_new(self) -> None:
        self.world.add_release("tides", "1", {"mods/tides/a.dat": b"a"})
        self.make_applied()
        self.world.write_game("tool/tool.bin", b"tool")
        home = PackHome(self.world.path("pack"))
        card = os.path.join(home.own_catalog, "cards", "mine.toml")
        old = pack_texts(home)

        def look() -> None:
            status = self.world.run("check").returncode
            is_new = os.path.exists(card)
            self.assertEqual(status, 0 if is_new else 1)
            self.assertEqual(pack_texts(home) != old, is_new)
            self.assertEqual(self.world.run("apply", "--yes").returncode, 0)
            self.assertIn("tool/tool.bin", self.world.game())

        self.kill_each(("absorb", "--as", "mine", "--yes"), 45, look)

    def test_guard_and_checkpoint_are_old_or_new(self) -> None:
        self.world.change_sheet(game='store-files = ["@game/version.txt"]')
        self.world.adopt()
        file = self.world.path("game", "version.txt")

        def look() -> None:
            said = self.world.run("check")
            self.assertEqual(said.returncode, 0, said.stdout + said.stderr)
            is_on = not os.stat(file).st_mode & 0o222
            self.assertEqual("The guard holds" in said.stdout, is_on, said.stdout)
            self.assertEqual(self.world.run("guard", "off").returncode, 0)
            self.assertTrue(os.stat(file).st_mode & 0o200)

        self.kill_each(("guard", "on"), 45, look)

        def look_for_name() -> None:
            names = [
                each.name
                for each in list_checkpoints(
                    Request(pack_folder=self.world.path("pack"), on_recovered=ignore_recovery)
                )
            ]
            self.assertEqual(self.world.run("checkpoint", "calm").returncode, 0)
            self.assertLessEqual(names.count("calm"), 1)

        self.kill_each(("checkpoint", "calm"), 45, look_for_name)

    def test_sweeping_back_is_old_or_new(self) -> None:
        self.world.adopt()
        files = {f"mods/mine/{number}.txt": b"mine %d" % number for number in range(5)}
        write_tree(self.world.path("game"), files)
        before = self.world.game()
        self.assertEqual(self.world.run("sweep", "--yes").returncode, 0)
        swept = self.world.path("pack", "swept")
        write_tree(swept, {os.path.join(os.listdir(swept)[0], "note.txt"): b"my note"})

        def look() -> None:
            self.world.run("check")
            in_game = files.keys() & self.world.game().keys()
            left = {path.partition("/game/")[2] for path in snapshot(swept) if "/game/" in path}
            self.assertIn((len(in_game), len(left & files.keys())), ((0, 5), (5, 0)))
            if not in_game:
                self.assertEqual(self.world.run("sweep", "--back", "last").returncode, 0)
            self.assertEqual(self.world.game(), before)
            kept = [entry.content for entry in snapshot(swept).values() if entry.content]
            self.assertEqual(kept, [b"my note"])

        self.kill_each(("sweep", "--back", "last"), 9, look)


if __name__ == "__main__":
    unittest.main()
