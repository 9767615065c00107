"""Every command that writes, killed at its calls to the system that write; then any other command comes.

Nothing may be told that is not so, no edit of the next command may be lost, and vanilla comes back.
``EVERY_CALL=1`` in the environment takes all calls instead of a few for each command.
"""

from __future__ import annotations

import builtins
import os
import random
import shutil
import sys
import tomllib
import unittest
from collections.abc import Callable
from typing import Any

from rellum.cli.main import main
from tests.core.change.test_failing_calls import FailingCalls
from tests.core.change.test_interruption import run_in_child
from tests.support import VANILLA, WorldTest, write_tree, zip_bytes

_READS = ("read", "scandir")
_FEW = 2
"""How many calls of each command are killed at."""

COMMANDS: tuple[tuple[str, ...], ...] = (
    ("want", "foam"),
    ("want", "tides@2.0"),
    ("drop", "swell"),
    ("hold", "tides", "1.0", "--reason", "so"),
    ("decide", "winner", "data/sea.dat", "tides"),
    ("resolve",),
    ("apply", "--yes"),
    ("graft", "lamp", "--donor", "../donor", "--take", "*.dat", "--slot", "@game/data"),
    ("restore", "--all", "--yes"),
    ("restore", "data/sea.dat", "--yes"),
    ("rewind", "--yes"),
    ("rewind", "first", "--yes"),
    ("sweep", "--yes"),
    ("checkpoint", "named"),
    ("variant", "new", "other"),
    ("variant", "use", "calm", "--yes"),
    ("variant", "use", "vanilla", "--yes"),
    ("variant", "rename", "calm", "quiet"),
    ("backup", "kept"),
    ("trial", "works"),
    ("hunt",),
    ("absorb", "--as", "mine", "--yes"),
    ("absorb", "--begin"),
    ("guard", "on", "--yes"),
    ("take", "../more/foam-1.0.zip"),
    ("press", "../working", "--mod", "pressed", "--version", "1.0"),
    ("describe", "../more/odd.zip"),
)
_LOOK = (("check",), ("status",), ("preview",), ("list",), ("history",))


class KillingWrites(FailingCalls):
    """Ends the process at a call that writes; only those are counted."""

    def _wrapped(self, call: Callable[..., Any]) -> Callable[..., Any]:
        counted = super()._wrapped(call)
        name = call.__name__

        def wrapper(*args: Any, **named: Any) -> Any:
            if name in _READS or (name == "open" and not _writes(call, args, named)):
                return call(*args, **named)
            return counted(*args, **named)

        return wrapper

    def _fail(self, call: object, args: object, named: object) -> None:
        os._exit(9)


def _writes(call: Callable[..., Any], args: Any, named: Any) -> bool:
    if call is os.open or call.__module__ in ("posix", "nt"):
        flags = args[1] if len(args) > 1 else named.get("flags", 0)
        return bool(flags & (os.O_WRONLY | os.O_RDWR | os.O_CREAT))
    mode = args[1] if len(args) > 1 else named.get("mode", "r")
    return any(sign in mode for sign in "wax+")


@unittest.skipUnless(hasattr(os, "fork"), "needs fork")
class KilledCommandsTest(WorldTest):
    points = 0

    @classmethod
    def tearDownClass(cls) -> None:
        print(f"\nkilled at {KilledCommandsTest.points} calls that write", file=sys.stderr)

    def make(self) -> None:
        world = self.world
        world.change_sheet(places='saves = "@game/saves"\nsettings = "@game/config"')
        write_tree(world.path("game"), {"saves/a.sav": b"save", "config/view.ini": b"[a]\nb = 1\n"})
        for version in ("1.0", "2.0"):
            word = version.encode()
            files = {"data/sea.dat": b"tides " + word, "mods/tides/a.dat": word}
            world.add_release("tides", version, files)
        world.add_release("swell", "1.0", {"data/sea.dat": b"swell", "mods/swell/a.dat": b"s"})
        world.adopt()
        world.take_all()
        world.add_release("foam", "1.0", {"data/cables.dat": b"foam", "mods/foam/a.dat": b"f"})
        write_tree(world.path("more"), {"odd.zip": zip_bytes({"mods/odd/o.dat": b"o"})})
        os.rename(world.path("downloads", "foam-1.0.zip"), world.path("more", "foam-1.0.zip"))
        write_tree(world.path("working"), {"mods/pressed/p.dat": b"p"})
        write_tree(world.path("donor"), {"twin.dat": b"donor"})
        world.want("tides", "=1.0")
        world.want("swell")
        world.resolve()
        for words in (
            ("checkpoint", "first"),
            ("apply", "--yes"),
            ("variant", "new", "calm"),
            ("drop", "swell"),
        ):
            self.assertEqual(world.run(*words).returncode, 0, words)
        write_tree(world.path("game"), {"odd/foreign.txt": b"foreign"})

    def killed(self, words: tuple[str, ...], at: int) -> Callable[[], None]:
        """Return what runs a command as a process would, and is killed at one of its calls that write."""

        def run() -> None:
            os.chdir(self.world.path("pack"))
            os.environ.update(RELLUM_SHELF=self.world.path("shelf"), COLUMNS="100")
            quiet = os.open(os.devnull, os.O_RDWR)
            for stream in (0, 1, 2):
                os.dup2(quiet, stream)
            sys.argv = ["rellum", *words]
            with KillingWrites(self.world.root, at) as calls:
                main()
            with builtins.open(self.world.root + "-count", "w") as file:
                file.write(str(calls.count))

        return run

    def count(self, words: tuple[str, ...]) -> int:
        run_in_child(self.killed(words, -1))
        with open(self.world.root + "-count", encoding="utf-8") as file:
            return int(file.read())

    def test_any_command_comes_after_a_killed_one(self) -> None:
        self.make()
        saved = self.world.root + "-saved"
        shutil.copytree(self.world.root, saved)
        self.addCleanup(shutil.rmtree, saved)
        self.addCleanup(os.unlink, self.world.root + "-count")
        dice = random.Random(34)
        for words in COMMANDS:
            self.reset(saved)
            count = self.count(words)
            at_all = range(count)
            some = at_all if os.environ.get("EVERY_CALL") else dice.sample(at_all, min(_FEW, count))
            for at in some:
                self.reset(saved)
                following = dice.choice(COMMANDS)
                with self.subTest(
                    killed=" ".join(words), at=at, of=count, then=" ".join(following)
                ):
                    KilledCommandsTest.points += 1
                    self.assertEqual(run_in_child(self.killed(words, at)), 9)
                    self.go_on(following, dice)

    def reset(self, saved: str) -> None:
        shutil.rmtree(self.world.root)
        shutil.copytree(saved, self.world.root)

    def go_on(self, following: tuple[str, ...], dice: random.Random) -> None:
        world = self.world
        before = self.pack_says()
        done = world.run(*following)
        self.assertNotIn("Traceback", done.stderr)
        self.assertIn(done.returncode, (0, 1, 2), done.stderr)
        if done.returncode == 0:
            self.assert_said_is_so(following, before)
        look = world.run(*dice.choice(_LOOK))
        self.assertNotIn("Traceback", look.stderr)
        self.assertIn(look.returncode, (0, 1, 2), look.stderr)
        self.assertFalse(os.path.exists(world.path("pack", ".rellum", "journal")))
        if following[0] not in ("want", "drop", "hold", "graft", "decide"):
            after = world.run(*following)
            self.assertNotIn("Traceback", after.stderr)
        found = world.check(deep=True)
        wrong = [each for each in found.findings if each.kind != "foreign"]
        self.assertEqual((*wrong, *found.missing_originals, *found.damaged_originals), ())
        world.run("guard", "off", "--yes")
        done = world.run("restore", "--all", "--yes")
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        game = world.game()
        for name, content in VANILLA.items():
            self.assertEqual(game[name].content, content, name)
        self.assertEqual(game["saves/a.sav"].content, b"save")

    def pack_says(self) -> dict[str, Any]:
        with open(self.world.path("pack", "rellum.toml"), "rb") as file:
            return tomllib.load(file)

    def assert_said_is_so(self, words: tuple[str, ...], before: dict[str, Any]) -> None:
        """What a command said that it wrote into rellum.toml is there after the next command, too."""
        self.world.run("status")
        now = self.pack_says()
        if words[0] == "want":
            self.assertIn(words[1].partition("@")[0], now["want"])
        elif words[0] == "drop":
            self.assertNotIn(words[1], now.get("want", {}))
        elif words[0] == "hold":
            self.assertIn("tides", now["hold"])
        elif words[0] == "graft":
            self.assertEqual([each["name"] for each in now["graft"]], ["lamp"])
        elif words[:2] == ("variant", "use"):
            variant = now.get("pack", {}).get("variant", "main")
            self.assertEqual(variant, words[2])


if __name__ == "__main__":
    unittest.main()
