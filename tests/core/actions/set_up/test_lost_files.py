"""A file that Rellum keeps is gone, zeroed or cut: the hints lead to vanilla, or the rest is named."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import unittest

from rellum.core.folder.stamps import MARKER_NAME
from tests.support import VANILLA, WorldTest, write_tree

_OF_PLAY = {"data/sea.dat": b"tidal sea", "mods/tides/a.dat": b"a", "mods/tides/b.dat": b"b"}


def commands_in(hint: str) -> list[list[str]]:
    """Return the commands that a hint names and that can be run as they are."""
    found = re.findall(r"'rellum ([^']*(?:'\S*'[^']*)*)'|^\s+rellum (.*)$", hint, re.MULTILINE)
    texts = [quoted or line for quoted, line in found]
    return [shlex.split(text) for text in texts if not re.search(r"\b[A-Z]{3,}\b", text)]


class LostFilesTest(WorldTest):
    def make_played(self) -> None:
        """A mod over vanilla that was updated, one that rellum.toml no longer asks for, a file gone."""
        world = self.world
        world.change_sheet(places='saves = "@game/saves"')
        write_tree(world.path("game"), {"saves/a.sav": b"save"})
        world.add_release("tides", "1.0", _OF_PLAY)
        world.add_release("foam", "1.0", {"data/cables.dat": b"foam", "mods/foam/a.dat": b"f"})
        self.make_applied()
        world.run("backup")
        world.drop("foam")
        os.unlink(world.path("game", "mods", "tides", "b.dat"))

    def lose(self, file: str, how: str) -> None:
        if os.path.isdir(file):
            shutil.rmtree(file)
        elif how == "gone":
            os.unlink(file)
        else:
            size = os.path.getsize(file)
            with open(file, "r+b") as stream:
                stream.write(bytes(size if how == "zeroed" else 0))
                stream.truncate(size if how == "zeroed" else size // 2)

    def follow_hints(self) -> subprocess.CompletedProcess[str]:
        """Restore all, doing before it what the errors say, as often as they say something else."""
        seen = set()
        while True:
            done = self.world.run("restore", "--all", "--yes")
            self.assertNotIn("Traceback", done.stderr)
            self.assertNotIn("not adopted", done.stderr)
            told = done.stderr.partition("hint: ")[2]
            if done.returncode != 2 or told in seen:
                return done
            seen.add(told)
            for words in commands_in(told):
                yes = ("--yes",) if words[0] == "restore" else ()
                self.assertNotIn("Traceback", self.world.run(*words, *yes).stderr, words)

    def assert_vanilla_or_named(self, done: subprocess.CompletedProcess[str]) -> None:
        files = {name: e.content for name, e in self.world.game().items() if not name.endswith("/")}
        wrong = {name for name in VANILLA if files.get(name) != VANILLA[name]}
        named = {name for name in VANILLA if f"{name} is not as it should be" in done.stderr}
        self.assertEqual(wrong, named, done.stdout + done.stderr)
        self.assertEqual(done.returncode, 1 if wrong else 0, done.stderr)
        self.assertNotIn(MARKER_NAME, files)

    def test_each_file_of_the_pack_is_lost_in_turn(self) -> None:
        self.make_played()
        own = self.world.path("pack", ".rellum")
        files = sorted(os.listdir(own))
        self.assertLessEqual({"state.db", "originals", "vanilla.json.gz", "backups"}, set(files))
        shutil.copytree(self.world.root, self.world.root + "-kept")
        self.addCleanup(shutil.rmtree, self.world.root + "-kept")
        marker = self.world.path("game", MARKER_NAME)
        for file in (*(os.path.join(own, name) for name in files), marker):
            for how in ("gone", "zeroed", "cut"):
                if os.path.isdir(file) and how != "gone":
                    continue
                shutil.rmtree(self.world.root)
                shutil.copytree(self.world.root + "-kept", self.world.root)
                with self.subTest(file=os.path.basename(file), how=how):
                    self.lose(file, how)
                    for command in ("check", "status", "preview", "apply"):
                        words = (command, "--yes") if command == "apply" else (command,)
                        done = self.world.run(*words)
                        self.assertNotIn("Traceback", done.stderr)
                        self.assertNotIn("has not adopted", done.stderr)
                        if file.endswith("originals") and command != "apply":
                            self.assertIn("sea.dat" if command == "check" else "cop", done.stdout)
                    self.assert_vanilla_or_named(self.follow_hints())

    def test_adopt_never_calls_mods_vanilla_where_the_state_is_lost(self) -> None:
        self.make_played()
        os.unlink(self.world.path("pack", ".rellum", "state.db"))
        for more in ((), ("--as-it-is",), ("--anew",)):
            done = self.world.run("adopt", "../game", *more)
            self.assertEqual(done.returncode, 2)
            self.assertIn("--rebuild", done.stderr)
        shutil.rmtree(self.world.path("pack", ".rellum"))
        os.unlink(self.world.path("game", MARKER_NAME))
        done = self.world.run("adopt", "../game")
        self.assertIn("mods of this pack's line-up are in the game already", done.stderr)
        self.assertEqual(done.returncode, 2)

    def test_a_state_is_made_anew_whatever_line_up_there_is(self) -> None:
        """What is missing is seen alike by check, status and preview."""
        self.make_played()
        shutil.copytree(self.world.root, self.world.root + "-kept")
        self.addCleanup(shutil.rmtree, self.world.root + "-kept")
        for lock in (True, False):
            shutil.rmtree(self.world.root)
            shutil.copytree(self.world.root + "-kept", self.world.root)
            os.unlink(self.world.path("pack", ".rellum", "state.db"))
            if not lock:
                os.unlink(self.world.path("pack", "rellum.lock"))
            done = self.world.run("adopt", "../game", "--rebuild")
            self.assertEqual(done.returncode, 0, done.stderr)
            said = self.world.run("check").stdout
            self.assertIn("data/sea.dat" if not lock else "mods/tides/b.dat", said)
            self.assertRegex(self.world.run("status").stdout, r"folder .*: .*(changed|missing)")
            if lock:
                self.assertIn("mods/tides/b.dat", self.world.run("preview").stdout)
            self.assert_vanilla_or_named(self.follow_hints())


if __name__ == "__main__":
    unittest.main()
