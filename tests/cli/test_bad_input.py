"""Whatever a user does wrong: a clear message, the right exit status, and nothing changed."""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
import unittest
from unittest import mock

from rellum.core.actions.set_up.adopt import CannotAdopt
from tests.support import WorldTest, snapshot, write_tree, zip_bytes


class BadInputTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.add_release(
            "tides", "1.0", {"data/sea.dat": b"tidal sea", "mods/tides/a.dat": b"a"}
        )

    def refused(self, *arguments: str, words: str, status: int = 2) -> None:
        """Run, expect the refusal, and compare game, pack files and shelf with before."""
        before = self.everything()
        result = self.world.run(*arguments)
        self.assertEqual(result.returncode, status, result.stderr + result.stdout)
        self.assertIn(words, " ".join(result.stderr.split()))
        self.assertNotIn("Traceback", result.stderr)
        self.assertEqual(self.everything(), before)

    def everything(self):
        quiet = (".rellum/process-lock", ".rellum/state.db", "shelf.db", "archives/")
        trees = {name: snapshot(self.world.path(name)) for name in ("game", "pack", "shelf")}
        return {
            (name, path): entry
            for name, tree in trees.items()
            for path, entry in tree.items()
            if not path.startswith(quiet)
        }

    def ready(self) -> None:
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides")
        self.world.resolve()

    def test_without_a_pack_or_a_game(self) -> None:
        self.refused("check", words="there is no rellum.toml")
        document = json.loads(self.world.run("check", "--json").stdout)
        self.assertEqual(document["error"]["code"], "no-pack")
        self.refused("adopt", "../nowhere", words="is not there")
        self.refused("adopt", "../downloads", words="matches no game in the catalog")
        self.refused("adopt", "../game", "--sheet", "fathom", words="did you mean 'fathomline'")
        self.refused("adopt", "../game", "--catalog", "nope", words="nope is not there")
        write_tree(self.world.path("pack"), {"rellum.toml": b"[want]\n"})
        self.refused("apply", "--yes", words="has not adopted a game yet")

    def test_adopting_in_the_wrong_place(self) -> None:
        write_tree(self.world.path("pack", "g"), {"version.txt": b"version: 1.6.0\n"})
        self.refused("adopt", "g", words="lies in the pack")
        write_tree(self.world.path("shelf", "g"), {"version.txt": b"version: 1.6.0\n"})
        self.refused("adopt", "../shelf/g", words="lies in the shelf")
        self.refused("adopt", "../game", "--pack", "../game/pack", words="lies in the game folder")
        write_tree(self.world.path("game"), {"version.txt": b"some other text\n"})
        self.refused("adopt", "../game", words="cannot tell the version")

    def test_two_packs_and_one_game(self) -> None:
        self.world.adopt()
        self.refused("adopt", "../game", words="keeps")
        os.makedirs(self.world.path("other"))
        self.refused("adopt", "../game", "--pack", "../other", words="belongs to the pack in")

    def test_archives(self) -> None:
        self.world.adopt()
        good = zip_bytes({"a": b"a" * 500})
        for name, content, words in (
            ("empty.zip", b"", "the file is empty"),
            ("cut.zip", good[:60], "the download is incomplete"),
            ("page.zip", b"<html><title>Sign in</title>", "web page"),
            ("text.zip", b"not a zip at all", "not an archive that Rellum can read"),
            ("up.zip", zip_bytes({"../../up": b"x"}), "leaves its place by '..'"),
            ("tides-1.0.zip", good, "tides 1.0 has a file of that name with"),
        ):
            write_tree(self.world.path("bad"), {name: content})
            self.refused("take", f"../bad/{name}", words=words)
        self.refused("take", "../bad/none.zip", words="not found")
        self.refused("take", "../game", words="is the pack's game folder")
        self.refused("take", "../downloads", words="holds only archives")
        result = self.world.run("take", "../downloads/tides-1.0.zip", "../bad/cut.zip")
        self.assertEqual(result.returncode, 1)
        self.assertIn("taken    tides 1.0", result.stdout)
        write_tree(self.world.path("bad"), {"unknown.zip": good})
        result = self.world.run("take", "../bad/unknown.zip")
        self.assertEqual((result.returncode, result.stdout.split()[4]), (0, "unknown"))

    def test_wants_and_pack_files(self) -> None:
        self.world.adopt()
        self.refused("want", "tide", words="did you mean 'tides'")
        self.refused("want", "tides", ">=9", words="no release of tides matches")
        self.refused("want", "tides", ">=1 <", words="is not a range")
        self.refused("drop", "tides", words="does not want 'tides'")
        self.refused("preview", words="no line-up yet")
        path = self.world.path("pack", "rellum.toml")
        with open(path, encoding="utf-8") as file:
            text = file.read()
        for addition, words in (
            ("tides = \n", "rellum.toml:18: Invalid value"),
            ('tides = "1 to 2"\n', "want.tides: '1 to 2' is not a range"),
            ("[hold.tides]\nversion = 3\n", "is not valid here"),
            ("[wnat]\n", "did you mean 'want'"),
        ):
            with open(path, "w", encoding="utf-8") as file:
                file.write(text + addition)
            self.refused("resolve", words=words)

    def test_faults_of_the_catalog_are_all_told(self) -> None:
        self.world.adopt()
        card = b'[mod]\nid = "x"\n[[release]]\nversion = "1"\ngame = ">=1.5 <"\n'
        write_tree(self.world.path("catalog", "cards"), {"x.toml": card, "y.toml": b"["})
        self.world.change_pack('x = "*"\n')
        self.refused("resolve", words="x.toml:5: game: '>=1.5 <' is not a range")

    def test_no_line_up(self) -> None:
        self.world.add_release("still", "1", {"mods/s": b"s"}, says='clashes = { tides = "*" }')
        self.ready()
        self.world.want("still")
        for command in (["resolve"], ["preview"], ["apply", "--yes"]):
            self.refused(*command, words="the pack wants tides", status=1)
            self.refused(*command, words="cards/still.toml:7", status=1)

    def test_missing_archives_and_no_terminal(self) -> None:
        self.world.adopt()
        self.world.want("tides")
        self.world.resolve()
        self.refused("apply", "--yes", words="tides-1.0.zip (tides 1.0,")
        self.world.take_all()
        self.refused("apply", words="add --yes")

    def test_numbers_of_kept_copies(self) -> None:
        self.world.adopt()
        for text in ("1-999999999", "9" * 5000, "²", "3-", "-3", "7-3"):
            self.refused("kept", "drop", "--yes", "--", text, words="is no number of a copy")

    def test_restore(self) -> None:
        self.ready()
        self.world.apply()
        self.refused("restore", "--yes", words="name either files")
        self.refused("restore", "data/none.dat", "--yes", words="is not a file of the game")
        self.refused("restore", "../pack/rellum.toml", "--yes", words="leads out of the game")
        self.refused("restore", "/etc/passwd", "--yes", words="is not in the game folder")
        self.refused("restore", "--mod", "tide", "--yes", words="did you mean 'tides'")
        self.world.write_game("notes.txt", b"mine")
        self.refused("restore", "notes.txt", "--yes", words="is foreign")
        os.unlink(self.world.path("game", "data", "cables.dat"))
        self.refused("restore", "data/cables.dat", "--yes", words="there is no kept original")
        result = self.world.run("restore", "--all", "--yes")
        self.assertEqual(result.returncode, 1)
        self.assertIn("data/cables.dat is not as it should be", result.stderr)
        self.assertIn("notes.txt", result.stdout)

    def rot(self) -> None:
        for folder, _, names in os.walk(self.world.path("pack", ".rellum", "originals")):
            for name in names:
                with open(os.path.join(folder, name), "wb") as file:
                    file.write(b"rotten")

    def test_a_damaged_original_is_never_laid(self) -> None:
        self.ready()
        self.world.apply()
        laid = self.world.game()["data/sea.dat"]
        self.rot()
        said = self.world.run("restore", "--all", "--yes")
        self.assertEqual(said.returncode, 1)
        self.assertIn("the original of data/sea.dat is damaged", said.stderr)
        self.assertEqual(self.world.game()["data/sea.dat"], laid)

    def test_a_damaged_original_is_had_again_from_a_copy(self) -> None:
        vanilla = self.world.game()
        shutil.copytree(self.world.path("game"), self.world.path("copy"))
        self.ready()
        self.world.apply()
        self.rot()
        self.assertIn("data/sea.dat", self.world.run("check", "--deep").stdout)
        self.world.run("restore", "--damaged", "--from", self.world.path("copy"), "--yes")
        self.assertEqual(self.world.run("check", "--deep").returncode, 0)
        self.world.run("restore", "--all", "--yes")
        self.assertEqual(self.world.game(), vanilla)

    @unittest.skipUnless(hasattr(os, "mkfifo"), "this system has no pipes in folders")
    def test_a_pipe_in_the_game_is_never_opened(self) -> None:
        """To read one would take for ever; ``run`` gives up after two minutes."""
        self.ready()
        os.mkfifo(self.world.path("game", "data", "pipe"))
        self.world.apply()
        for name in ("data/cables.dat", "version.txt", "data/sea.dat"):
            os.unlink(self.world.path("game", name))
            os.mkfifo(self.world.path("game", name))
        for words in (
            ("check",), ("check", "--deep"), ("identify", "../game"), ("preview",), ("apply", "--yes"),
            ("restore", "--damaged", "--yes"), ("restore", "--all", "--yes"), ("rewind", "--yes"),
            ("sweep", "--yes"), ("absorb", "--as", "x", "--yes"), ("checkpoint", "a"),
            ("adopt", "../game", "--anew"), ("assemble", "../whole", "../game", "--unchecked"),
        ):  # fmt: skip
            said = self.world.run(*words)
            self.assertIn(said.returncode, (0, 1, 2), words)
            self.assertNotIn("Traceback", said.stderr, words)

    def test_damaged_or_newer_state(self) -> None:
        self.world.adopt()
        path = self.world.path("pack", ".rellum", "state.db")
        with sqlite3.connect(path) as connection:
            connection.execute("PRAGMA user_version = 99")
        connection.close()
        self.refused("check", words="newer Rellum")
        with open(path, "wb") as file:
            file.write(b"rubbish" * 1000)
        self.refused("check", words="is damaged")

    def test_the_game_folder_is_gone(self) -> None:
        self.ready()
        os.makedirs(self.world.path("elsewhere", "deep"))
        os.rename(self.world.path("game"), self.world.path("elsewhere", "deep", "moved"))
        result = self.world.run("check")
        self.assertEqual(result.returncode, 2)
        self.assertIn("is not there", result.stderr)
        os.rename(self.world.path("elsewhere", "deep", "moved"), self.world.path("game"))

    def test_a_game_folder_that_refuses_the_probe(self) -> None:
        denied = PermissionError(13, "Permission denied")
        probe = mock.patch("rellum.core.actions.set_up.adopt.warnings_for", side_effect=denied)
        with probe, self.assertRaisesRegex(CannotAdopt, "cannot be written: Permission denied"):
            self.world.adopt()
        self.assertFalse(os.path.exists(self.world.path("pack", "rellum.toml")))

    @unittest.skipUnless(hasattr(os, "geteuid") and os.geteuid(), "root may write everywhere")
    def test_a_read_only_game_folder(self) -> None:
        game = self.world.path("game")
        os.chmod(game, 0o555)
        self.addCleanup(os.chmod, game, 0o755)
        self.refused("adopt", "../game", words="cannot be written")

    def test_a_file_from_the_far_future(self) -> None:
        file = self.world.path("game", "data", "sea.dat")
        os.utime(file, (15_000_000_000, 15_000_000_000))
        if os.stat(file).st_mtime < 14_000_000_000:
            self.skipTest("this file system has no such dates")
        result = self.world.run("adopt", "../game", "--catalog", "../catalog")
        self.assertIn(result.returncode, (2, 4))
        self.assertIn("error: a file has a date after the year 2262", result.stderr)
        os.utime(file)
        self.assertEqual(
            self.world.run("adopt", "../game", "--catalog", "../catalog").returncode, 0
        )

    def test_killed_for_real_and_found_by_the_next_command(self) -> None:
        members = {f"mods/tides/{n}.dat": os.urandom(2000) for n in range(800)}
        self.world.add_release("tides", "2.0", {"data/sea.dat": b"big sea", **members})
        self.ready()
        before = {path: e.content for path, e in self.world.game().items()}
        journal = self.world.path("pack", ".rellum", "journal")
        environment = {**os.environ, "RELLUM_SHELF": self.world.path("shelf")}
        process = subprocess.Popen(
            [sys.executable, "-m", "rellum", "apply", "--yes"],
            cwd=self.world.path("pack"),
            env=environment,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        while not os.path.exists(journal) and process.poll() is None:
            time.sleep(0.001)
        busy = self.world.run("check")
        process.send_signal(signal.SIGKILL)
        process.wait()
        if busy.returncode == 2:
            self.assertIn(f"(process {process.pid}) is working on the pack", busy.stderr)
        was_there = os.path.exists(journal)
        result = self.world.run("check")
        self.assertEqual("was interrupted" in result.stderr, was_there, result.stderr)
        after = {path: e.content for path, e in self.world.game().items()}
        is_whole = after == before or len(after) == len(before) + 800 + 2
        self.assertTrue(is_whole, f"{len(before)} entries before, {len(after)} now")
        self.assertEqual(self.world.run("check", "--deep").returncode, 0)


if __name__ == "__main__":
    unittest.main()
