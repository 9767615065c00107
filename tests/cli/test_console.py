"""What is printed: harmless, aligned, and asked for on a terminal."""

from __future__ import annotations

import contextlib
import io
import os
import sys
import unittest

from rellum.cli import console
from rellum.cli.pace import Pace
from rellum.core.progress import Progress
from tests.support import WorldTest, at_terminal, write_tree, zip_bytes


class TextTest(unittest.TestCase):
    def printed(self, call, *arguments, **options) -> str:
        stream = io.StringIO()
        with contextlib.redirect_stdout(stream), contextlib.redirect_stderr(stream):
            call(*arguments, **options)
        return stream.getvalue()

    def test_bytes_and_counts(self) -> None:
        for count, text in (
            (0, "0 B"),
            (999, "999 B"),
            (1000, "1.0 kB"),
            (48_211, "48.2 kB"),
            (999_960, "1.0 MB"),
            (2_500_000_000_000, "2,500.0 GB"),
        ):
            self.assertEqual(console.bytes_text(count), text)
        self.assertEqual(console.count_text(1, "file"), "1 file")
        self.assertEqual(console.count_text(1200, "entry", "entries"), "1,200 entries")

    def test_nothing_from_outside_steers_the_terminal(self) -> None:
        evil = "a\x1b[2J\x1b]0;title\x07b\x9b1m"
        self.assertEqual(self.printed(console.say, evil), "a\\x1b[2J\\x1b]0;title\\x07b\\x9b1m\n")
        for sign in ("\x1b[1m", "\r", "\u202e", "\u2066", "\u200f", "\x9b8m"):
            self.assertNotIn(sign[0], self.printed(console.say, f"name{sign}fdp.exe"))
        table = self.printed(console.table, ("a", "b"), [("new", "x\ny\tz")])
        self.assertEqual(table, "a    b\nnew  x\\ny\\tz\n")
        error = self.printed(console.show_error, "bad \x1b[2J", ["one\ntwo"] * 50, "do it")
        self.assertIn("error: bad \\x1b[2J\n  one\n  two\n", error)
        self.assertIn("… and 10 more\n", error)

    def test_tables_align_and_never_break_lines_when_piped(self) -> None:
        rows = [
            ("new", "1", "x" * 300),
            ("over vanilla", "1,000", "深い海"),
            ("goes", "22", "[b]y"),
        ]
        lines = self.printed(console.table, ("what", "n", "file"), rows, right=(1,)).splitlines()
        self.assertEqual(len(lines), 4)
        self.assertEqual(lines[1], "new               1  " + "x" * 300)
        self.assertEqual(lines[3], "goes             22  [b]y")
        self.assertFalse(any(line.endswith(" ") for line in lines))

    def test_progress_is_quiet_when_piped(self) -> None:
        def work() -> None:
            with console.progress() as listen:
                from rellum.core.progress import Progress

                listen(Progress(stage="s", files=1, total_files=2, bytes=3, total_bytes=4))

        self.assertEqual(self.printed(work), "")


@unittest.skipIf(sys.platform == "win32", "needs a pseudo-terminal")
class TerminalTest(WorldTest):
    def at_terminal(self, answer: str, *words: str) -> tuple[int, str]:
        return at_terminal(
            words, answer, self.world.path("pack"), RELLUM_SHELF=self.world.path("shelf")
        )

    def test_asks_before_it_changes_the_game(self) -> None:
        self.world.add_release("tides", "1.0", {"data/sea.dat": b"tidal", "mods/a": b"a"})
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides")
        self.world.resolve()
        before = self.world.game()
        for answer in ("n\n", "\n", "what\n"):
            status, shown = self.at_terminal(answer, "apply")
            self.assertEqual((status, self.world.game()), (1, before))
            self.assertIn("Apply this? [y/N]", shown)
            self.assertIn("Nothing was changed.", shown)
        status, shown = self.at_terminal("y\n", "apply")
        self.assertEqual(status, 0)
        self.assertIn("\x1b[33mover vanilla\x1b[0m", shown)
        status, shown = self.at_terminal("yes\n", "restore", "--all")
        self.assertEqual(status, 0)
        self.assertIn("Restore this? [y/N]", shown)

    def test_offers_cards_for_what_no_card_knows(self) -> None:
        self.world.adopt()
        write_tree(
            self.world.path("downloads"),
            {
                "fog-1.2.zip": zip_bytes({"mods/fog/fog.dat": b"f"}),
                "haze.zip": zip_bytes({"h.dat": b"h"}),
            },
        )
        files = ("../downloads/fog-1.2.zip", "../downloads/haze.zip")
        status, shown = self.at_terminal("n\n", "take", *files)
        self.assertIn("Draft cards for 2 archives that no card knows? [y/N]", shown)
        self.assertFalse(os.path.exists(self.world.path("catalog", "cards", "fog.toml")))
        status, shown = self.at_terminal("y\n0.3\n", "take", *files)
        self.assertEqual(status, 0, shown)
        self.assertRegex(shown, r"new card +fog 1\.2 +- ")
        self.assertRegex(shown, r"new card +haze 0\.3 +1 ")  # nothing tells where it belongs
        self.assertRegex(shown, r"fog 1\.2 +\d+ B +\.\./downloads/fog-1\.2\.zip")
        self.assertIn("Decide what is marked 'FILL IN' in ../catalog/cards/haze.toml", shown)

    def test_a_folder_in_one_of_its_own_name_is_asked_about(self) -> None:
        self.world.add_release("same", "1.0", {"same/a.dat": b"s"}, place='to = "@mods/same/"')
        self.make_resolved()
        for answer, status, path in (
            ("1\nn\n", 1, ""),
            ("mods/same/same/\ny\n", 0, "mods/same/same/a.dat"),
        ):
            ended, shown = self.at_terminal(answer, "apply")
            self.assertIn("Where do they belong?", shown)
            self.assertEqual((ended, path in {"", *self.world.game()}), (status, True), shown)
        self.assertNotIn("Where do they", self.at_terminal("", "apply")[1])

    def test_a_place_outside_is_asked_about_the_first_time(self) -> None:
        self.world.change_sheet(places='settings = "{documents}/Fathomline"')
        place = (
            'take = "s/**"\nto = "@settings/"\n[[release.place]]\ntake = "m/**"\nto = "@mods/t/"'
        )
        self.world.add_release("tides", "1.0", {"s/t.ini": b"1", "m/a": b"a"}, place=place)
        self.world.adopt()
        self.world.change_pack('[game.places]\nsettings = "../player/settings"\n')
        self.world.take_all()
        self.world.want("tides")
        self.world.resolve()
        settings = self.world.path("player", "settings")
        before = self.world.game()
        for answers in ("n\n", "y\nn\n"):
            status, shown = self.at_terminal(answers, "apply")
            self.assertIn(
                f"Write to {settings}, outside the game folder", shown.replace("\r\n", " ")
            )
            self.assertEqual((status, self.world.game()), (1, before))
        self.assertEqual(self.at_terminal("y\ny\n", "apply")[0], 0)
        self.assertTrue(os.path.exists(os.path.join(settings, "t.ini")))
        os.unlink(os.path.join(settings, "t.ini"))
        status, shown = self.at_terminal("y\n", "apply")
        self.assertNotIn("outside the game folder", shown)
        self.assertEqual(status, 0)
        self.at_terminal("", "variant", "use", "vanilla", "--yes")
        moved = self.world.path("player", "moved")
        with open(self.world.path("pack", "variants", "main.toml"), encoding="utf-8") as file:
            text = file.read().replace("../player/settings", "../player/moved")
        write_tree(self.world.path("pack", "variants"), {"main.toml": text.encode()})
        status, shown = self.at_terminal("n\n", "variant", "use", "main")
        self.assertIn(f"Write to {moved}, outside the game folder", shown.replace("\r\n", " "))
        self.assertEqual((status, os.path.exists(moved)), (1, False))


class PaceTest(unittest.TestCase):
    def test_a_second_archive_has_a_pace_of_its_own(self) -> None:
        moment = 0.0
        pace = Pace()
        pace.clock = lambda: moment
        self.assertEqual(pace.begun(Progress("taking", 0, 0, 0, 1000)), 0)
        moment = 12.0
        self.assertEqual(pace.begun(Progress("taking", 0, 0, 900, 1000)), 0)
        now = Progress("taking", 0, 0, 36, 52_000_000)
        self.assertEqual(pace.begun(now), 12)
        self.assertNotIn("left", pace.text(now, 0.0))


if __name__ == "__main__":
    unittest.main()
