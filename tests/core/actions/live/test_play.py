"""Play: games that work, break, hang, start others or cannot be started; what their logs tell."""

from __future__ import annotations

import json
import os
import sys
import textwrap
import unittest
from unittest import mock

from rellum.core.catalog.play_rules import LogRules
from rellum.core.folder.play_log import compare_with_line_up, read_log
from tests.support import WorldTest, write_tree

PLAY = """
[play]
program = "@game/start.py"
log = "@game/logs/last.log"
works = '^ready'
breaks = '^FAILED'
loaded = '^mod (?P<mod>\\S+) (?P<version>.+)$'
failed = '^FAILED (?P<mod>\\S+)'
"""


class PlayTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.change_sheet(PLAY)
        self.script("pass")
        for mod in ("tides", "winds"):
            self.world.add_release(mod, "1.0", {f"mods/{mod}/a.dat": b"a"})
        self.world.add_release(
            "boats", "2.0", {"mods/boats/b.dat": b"b"}, says='check-by-hand = ["oars"]'
        )
        self.world.adopt()
        self.world.take_all()
        for mod in ("tides", "winds", "boats"):
            self.world.want(mod)
        self.world.apply()

    def script(self, body: str, *log: str) -> None:
        lines = ["import os, sys, time", "here = os.path.dirname(os.path.abspath(__file__))"]
        lines += [
            "os.makedirs(here + '/logs', exist_ok=True)",
            f"open(here + '/logs/last.log', 'w').write({chr(10).join(log)!r})",
            textwrap.dedent(body),
        ]
        write_tree(self.world.path("game"), {"start.py": "\n".join(lines).encode()})

    def play(self, *words: str, status: int = 0) -> dict[str, object]:
        done = self.world.run("play", "--json", *words)
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        found = json.loads(done.stdout)
        assert isinstance(found, dict)
        return found

    def test_it_works(self) -> None:
        self.script("", "mod tides 1.0", "mod winds 1.0", "mod boats 2.0", "ready")
        found = self.play("--outcome", "log")
        self.assertEqual(
            (found["outcome"], found["trial"], found["log_line"]), ("works", True, "ready")
        )
        self.assertIsNotNone(found["good_checkpoint"])
        listed = self.world.run("checkpoint", "--list").stdout
        self.assertIn("good", listed)
        with open(self.world.path("pack", "trials.toml"), encoding="utf-8") as file:
            self.assertIn('boats = "2.0"', file.read())

    def test_the_log_is_compared_with_the_line_up(self) -> None:
        self.script("", "mod tides 0.9", "FAILED boats", "mod other 1")
        found = self.play("--outcome", "log", status=1)
        self.assertEqual(found["outcome"], "breaks")
        self.assertEqual(found["not_loaded"], ["winds"])
        self.assertEqual(found["failed"], ["boats"])
        self.assertEqual(found["outdated"], [{"mod": "tides", "version": "1.0", "loaded": "0.9"}])
        self.assertEqual(found["extra"], ["other"])
        self.assertIn("play: breaks", self.world.run("history").stdout)

    def test_what_to_look_at(self) -> None:
        self.world.change_pack("")
        pack = self.world.path("pack", "rellum.toml")
        with open(pack, encoding="utf-8") as file:
            text = file.read().replace("[pack]\n", '[pack]\nlook-at = ["the horizon"]\n')
        write_tree(self.world.path("pack"), {"rellum.toml": text.encode()})
        self.script("", "ready")
        told = self.world.run("play", "--outcome", "works").stdout
        self.assertIn("the horizon  (the pack)", told)
        self.assertIn("oars  (boats 2.0)", told)
        told = self.world.run("play", "--outcome", "works").stdout
        self.assertNotIn("oars", told)  # it did not change since the pack worked

    def test_a_game_that_hangs_is_ended(self) -> None:
        self.script("time.sleep(60)", "starting")
        found = self.play("--outcome", "log", "--limit", "1")
        self.assertIsNone(found["exit_status"])
        self.assertIsNone(found["outcome"])
        self.assertLess(float(str(found["seconds"])), 30)

    @unittest.skipUnless(sys.platform == "linux", "a look at other processes")
    def test_a_game_that_starts_another_and_ends(self) -> None:
        other = "import time, os; time.sleep(1); open('logs/last.log', 'a').write('\\nready')"
        self.script(
            f"import subprocess; subprocess.Popen([sys.executable, '-c', {other!r}], cwd=here)",
            "begun",
        )
        found = self.play("--outcome", "log")
        self.assertEqual(found["outcome"], "works")
        self.assertGreaterEqual(float(str(found["seconds"])), 0.9)

    def test_a_game_that_cannot_be_started(self) -> None:
        os.unlink(self.world.path("game", "start.py"))
        done = self.world.run("play")
        self.assertEqual(done.returncode, 2)
        self.assertIn("start.py is not there", done.stderr)
        if os.name != "nt":
            self.world.change_sheet(PLAY.replace("start.py", "version.txt"))
            done = self.world.run("play")
            self.assertIn("not executable", done.stderr)
        self.world.change_sheet("")
        self.assertIn("does not say how the game is started", self.world.run("play").stderr)

    def test_a_status_tells_where_the_log_does_not(self) -> None:
        self.world.change_sheet('\n[play]\nprogram = "@game/start.py"\n')
        self.script("print('something'); sys.exit(3)")
        self.assertEqual(self.play("--outcome", "log", status=1)["exit_status"], 3)
        self.script("")
        self.assertIsNone(self.play("--outcome", "log")["outcome"])

    def test_a_program_that_a_release_brings(self) -> None:
        program = b"import sys; print('by loader', sys.argv[1]); print('ready')"
        self.world.add_release(
            "loader",
            "1.0",
            {"mods/loader/go.py": program},
            place='to = "@game/"\n[[release.play]]\nprogram = "@mods/loader/go.py"\narguments = ["x"]',
        )
        self.world.take_all()
        self.world.want("loader")
        self.world.apply()
        self.script("", "mod tides 1.0")
        told = self.world.run("play", "--outcome", "works").stdout
        self.assertIn("Starting go.py, by loader 1.0", told)
        self.assertIn(
            "Starting start.py",
            self.world.run("play", "--with", "game", "--outcome", "works").stdout,
        )
        self.assertEqual(self.world.run("play", "--with", "tides").returncode, 2)


class LogTest(unittest.TestCase):
    def test_ids_as_mods_call_themselves(self) -> None:
        rules = LogRules(loaded=r"load (?P<mod>\S+)")
        reading = read_log("load Tidal:Currents\nload WINDS\n", rules)
        found = compare_with_line_up(
            reading, {"tidal": "1", "winds": "2"}, {"tidal": "tidal:currents"}
        )
        self.assertEqual((found.missing, found.extra, found.outdated), ((), (), ()))

    def test_a_log_that_names_none_of_them_tells_nothing(self) -> None:
        found = compare_with_line_up(
            read_log("mod x", LogRules(loaded="mod (?P<mod>.)")), {"a": "1"}, {}
        )
        self.assertEqual((found.missing, found.extra), ((), ()))

    def test_a_slow_pattern_is_refused(self) -> None:
        from rellum.core.folder import play_log
        from rellum.core.folder.detection import PatternTooSlow

        with mock.patch.object(play_log, "_MOST_SECONDS", 0.2), self.assertRaises(PatternTooSlow):
            read_log("a" * 60 + "!", LogRules(works=r"(a|aa)+$"))
