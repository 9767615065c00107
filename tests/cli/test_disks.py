"""Disks that can only be read, and disks that become full: each in a mount of the test's own."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import unittest
from typing import NamedTuple

from rellum.core.pack.home import PackHome, pack_texts
from tests.support import Entry, World, WorldTest, snapshot, without_marker

READ_ONLY = 'mount --bind "$ROOT" "$ROOT" && mount -o remount,ro,bind "$ROOT"'
SMALL = 'mount -t tmpfs -o size="$SIZE" none "$ROOT" && cp -a "$ROOT-saved/." "$ROOT/"'


def in_a_mount(world: World, mount: str, script: str, **more: str) -> tuple[int, str]:
    """Run a shell script with a mount that only it sees; return its status and what it said."""
    variables = {
        **os.environ,
        "ROOT": world.root,
        "RELLUM_SHELF": world.path("shelf"),
        "RELLUM_CACHE": os.path.join(os.path.dirname(world.root), "no-cache"),
        "PYTHONUTF8": "1",
        "RELLUM": f"{sys.executable} -m rellum",
        **more,
    }
    ran = subprocess.run(
        [
            "unshare",
            "-rm",
            "sh",
            "-c",
            f'({mount}) || exit 99; cd "$ROOT/pack" || exit 99; {script}',
        ],
        env=variables,
        capture_output=True,
        text=True,
        timeout=300,
    )
    return ran.returncode, ran.stdout + ran.stderr


def can_mount() -> bool:
    """Whether a process here may have mounts of its own."""
    if shutil.which("unshare") is None:
        return False
    tried = subprocess.run(
        ["unshare", "-rm", "mount", "-t", "tmpfs", "none", "/mnt"], capture_output=True
    )
    return tried.returncode == 0


@unittest.skipUnless(can_mount(), "unshare is not here, or may not mount")
class ReadOnlyTest(WorldTest):
    READING = (
        "check",
        "check --deep",
        "why sonar",
        "news",
        "kept",
        "preview",
        "conflicts",
        "shelf list",
    )
    CHANGING = (
        "apply --yes", "restore --all --yes", "want sonar", "drop sonar", "hold sonar 1.0 --reason x",
        "checkpoint x", "guard on", "trial works", "take .", "sweep --yes",
    )  # fmt: skip

    def setUp(self) -> None:
        super().setUp()
        self.world.change_sheet(game='store-files = ["@game/update.list"]')
        self.world.write_game("update.list", b"all")
        self.world.add_release("sonar", "1.0", {"data/a.pak": b"sonar", "mods/sonar/s": b"s"})
        self.make_applied()
        self.world.add_release("sonar", "2.0", {"data/a.pak": b"newer", "mods/sonar/s": b"s"})
        self.world.take_all()

    def run_it(self, words: str) -> tuple[int, str]:
        return in_a_mount(self.world, READ_ONLY, f"$RELLUM {words}")

    def test_a_pack_can_be_read(self) -> None:
        for words in self.READING:
            with self.subTest(words):
                as_ever = self.world.run(*words.split())
                status, said = self.run_it(words)
                self.assertEqual(
                    (status, said), (as_ever.returncode, as_ever.stdout + as_ever.stderr)
                )

    def test_what_is_found_is_said(self) -> None:
        self.world.write_game("data/a.pak", b"other")
        status, said = self.run_it("check")
        self.assertEqual(status, 1)
        self.assertIn("data/a.pak", said)

    def test_what_would_change_says_that_nothing_was(self) -> None:
        self.world.resolve(fresh=True)
        self.world.write_game("mods/stray.txt", b"stray")
        for words in self.CHANGING:
            with self.subTest(words):
                before = snapshot(self.world.root)
                status, said = self.run_it(words)
                self.assertEqual(status, 2, said)
                self.assertIn("othing was changed", said)
                self.assertEqual(snapshot(self.world.root), before)


class Seen(NamedTuple):
    """What is there after a command: the game without its marker, and the pack's texts."""

    game: dict[str, Entry]
    texts: object


def seen(root: str) -> Seen:
    return Seen(
        without_marker(snapshot(os.path.join(root, "game"))),
        pack_texts(PackHome(os.path.join(root, "pack"))),
    )


@unittest.skipUnless(can_mount(), "unshare is not here, or may not mount")
class FullDiskTest(WorldTest):
    """A change on a disk with less and less room: before or after, and what is said last is so."""

    def test_it_is_before_or_after(self) -> None:
        members = {f"data/{number}.pak": os.urandom(9000) for number in range(12)}
        self.world.write_game("data/3.pak", os.urandom(30_000))
        self.world.add_release("sonar", "1.0", members)
        self.make_resolved()
        root = self.world.root
        saved, out = f"{root}-saved", f"{root}-out"
        shutil.copytree(root, saved, symlinks=True)
        self.addCleanup(shutil.rmtree, saved)
        self.world.apply()
        before, after = seen(saved), seen(root)
        used = sum(
            (os.lstat(os.path.join(folder, name)).st_size // 4096 + 1) * 4
            for folder, folders, names in os.walk(saved)
            for name in (*folders, *names)
        )
        ends = set()
        script = f'$RELLUM apply --yes; status=$?; cp -a "$ROOT" {out}; exit $status'
        for room in range(0, 420, 32):
            with self.subTest(room=room):
                status, said = in_a_mount(self.world, SMALL, script, SIZE=f"{used + room}k")
                if status == 99:  # the world itself finds no room
                    continue
                now = seen(out)
                shutil.rmtree(out)
                self.assertNotIn("Traceback", said)
                ends.add(status)
                if status == 0:
                    self.assertEqual(now, after)
                elif status != 4:
                    self.assertIn(status, (2, 3), said)
                    self.assertEqual(now, before, said)
        self.assertIn(0, ends)
        self.assertIn(2, ends)


if __name__ == "__main__":
    unittest.main()
