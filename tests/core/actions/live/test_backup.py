"""The built program keeps saves and settings, and brings them back."""

from __future__ import annotations

import json
import os
import zipfile

from tests.support import WorldTest, write_tree


class BackupTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.change_sheet(
            places='settings = "{documents}/F"\nsaves = "@game/saves"',
            game='carry = ["@game/worlds/**", "@game/my[[]odd].dat"]',
        )
        write_tree(self.world.path("player"), {"view.ini": b"far = 1\n"})
        write_tree(
            self.world.path("game"),
            {"saves/a.sav": b"a1", "saves/deep/b.sav": b"b1", "my[odd].dat": b"o", "logs/x": b"x"},
        )
        self.world.add_release("tides", "1.0", {"data/sea.dat": b"tidal sea"})
        self.world.adopt()
        self.world.change_pack('[game.places]\nsettings = "../player"\n')

    def say(self, *words: str, status: int = 0) -> str:
        done = self.world.run(*words)
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        return done.stdout + done.stderr

    def read(self, *parts: str) -> bytes | None:
        try:
            with open(self.world.path(*parts), "rb") as file:
                return file.read()
        except FileNotFoundError:
            return None

    def save(self, files: dict[str, bytes]) -> None:
        write_tree(self.world.path("game", "saves"), files)

    def test_a_save_comes_back(self) -> None:
        self.assertIn("4 files", self.say("backup", "make", "good"))
        self.assertIn("Nothing has changed since backup 1 'good'", self.say("backup"))
        self.save({"a.sav": b"spoilt", "new.sav": b"n"})
        write_tree(self.world.path("player"), {"view.ini": b"far = 9\n"})
        os.unlink(self.world.path("game", "saves", "deep", "b.sav"))
        told = self.say("backup", "compare", "good")
        for words in (
            "new      saves/new.sav",
            "changed  saves/a.sav",
            "gone     saves/deep/b.sav",
        ):
            self.assertIn(words, told)
        told = self.say("backup", "back", "good", "saves/a.sav", "--yes")
        self.assertIn("What was there before is in backup 2", told)
        self.assertEqual(self.read("game", "saves", "a.sav"), b"a1")
        self.assertEqual(self.read("player", "view.ini"), b"far = 9\n")
        told = self.say("backup", "back", "good", "--yes")
        self.assertIn("1 newer file stays", told)
        self.assertEqual(self.read("game", "saves", "deep", "b.sav"), b"b1")
        self.assertEqual(self.read("player", "view.ini"), b"far = 1\n")
        self.assertEqual(self.read("game", "saves", "new.sav"), b"n")
        self.say("backup", "back", "good", "--exactly", "--yes")
        self.assertIsNone(self.read("game", "saves", "new.sav"))
        self.assertIn("No drift", self.say("check"))
        self.say("backup", "back", "2", "--yes")
        self.assertEqual(self.read("game", "saves", "a.sav"), b"spoilt")
        listed = json.loads(self.say("backup", "list", "--json"))["backups"]
        self.assertEqual([each["name"] for each in listed][-1], "good")
        self.assertEqual(len({each["number"] for each in listed}), len(listed))

    def test_every_change_makes_one_where_something_changed(self) -> None:
        self.world.take_all()
        self.world.want("tides")
        self.assertIn("Backup 1 was made before this", self.say("apply", "--yes"))
        self.world.drop("tides")
        self.assertNotIn("Backup", self.say("apply", "--yes"))
        self.save({"a.sav": b"a2"})
        self.assertIn("1 file of yours", self.say("rewind", "--yes"))
        shown = self.say("backup", "show")
        self.assertIn("saves/a.sav", shown)
        self.assertNotIn("logs/x", shown)

    def test_a_release_that_breaks_saves_is_said_first(self) -> None:
        says = 'breaks-saves = { of = "<2" }'
        self.world.add_release("tides", "2.0", {"data/sea.dat": b"new sea"}, says=says)
        self.world.take_all()
        self.world.want("tides", "<2")
        self.say("apply", "--yes")
        self.world.want("tides", ">=2")
        words = "saves that were made with tides 1.0 do not open with 2.0"
        told = " ".join(self.say("preview").split())
        self.assertIn(words, told)
        self.assertIn("there is no way back", told)
        told = self.say("apply", "--yes")
        self.assertIn("'before tides 2.0' has the saves as they were", told)
        self.save({"a.sav": b"of 2.0"})
        hint = "bring back older ones: rellum backup back 'before tides 2.0'"
        self.assertIn(hint, " ".join(self.say("rewind", "--yes").split()))
        self.say("rewind", "--yes")
        self.world.want("tides", "<2")
        self.assertIn(hint, " ".join(self.say("apply", "--yes").split()))
        self.say("backup", "back", "before tides 2.0", "--yes")
        self.assertEqual(self.read("game", "saves", "a.sav"), b"a1")

    def test_settings_move_along_when_a_release_renames_their_folder(self) -> None:
        def place(folder: str) -> str:
            first = 'take = "data/**"\nto = "@data/"\n[[release.place]]\n'
            return f'{first}take = "set/**"\nto = "@settings/{folder}/"'

        settings = '[release.settings]\n"@settings/*/*.ini" = "merge"\n'
        for version, folder, more in (
            ("3.0", "tidal", ""),
            ("4.0", "tides", 'was = { "@settings/tides/" = "@settings/tidal/" }\n'),
        ):
            members = {"data/sea.dat": version.encode(), "set/t.ini": b"a = 1\nb = 1\n"}
            self.world.add_release(
                "tides", version, members, says=more + settings, place=place(folder)
            )
        self.world.take_all()
        self.world.want("tides", "=3.0")
        self.say("apply", "--yes")
        write_tree(
            self.world.path("player", "tidal"), {"t.ini": b"a = 1\nb = 7\n", "mine.ini": b"m"}
        )
        self.world.want("tides", "=4.0")
        self.say("apply", "--yes")
        self.assertEqual(self.read("player", "tides", "t.ini"), b"a = 1\nb = 7\n")
        self.assertEqual(self.read("player", "tides", "mine.ini"), b"m")
        self.assertIsNone(self.read("player", "tidal", "mine.ini"))
        self.assertIn("No drift", self.say("check"))
        self.say("rewind", "--yes")
        self.assertEqual(self.read("player", "tidal", "t.ini"), b"a = 1\nb = 7\n")
        self.assertEqual(self.read("player", "tidal", "mine.ini"), b"m")

    def test_to_and_from_a_plain_zip(self) -> None:
        self.say("backup", "make", "good")
        out = self.world.path("out.zip")
        self.say("backup", "export", "good", out)
        with zipfile.ZipFile(out) as archive:
            names = {"game/my[odd].dat", "game/saves/a.sav", "game/saves/deep/b.sav",
                     "settings/view.ini"}  # fmt: skip
            self.assertEqual(set(archive.namelist()), names)
        self.say("backup", "export", "good", out, status=2)
        self.save({"a.sav": b"spoilt"})
        self.say("backup", "import", out, "--yes")
        self.assertEqual(self.read("game", "saves", "a.sav"), b"a1")
        evil = self.world.path("evil.zip")
        with zipfile.ZipFile(evil, "w") as archive:
            archive.writestr("game/data/sea.dat", b"not a save")
        self.assertIn("no file of the player's", self.say("backup", "import", evil, status=2))
        self.assertEqual(self.read("game", "data", "sea.dat"), b"vanilla sea\n")

    def test_a_damaged_one_is_named_and_the_rest_comes_back(self) -> None:
        self.say("backup")
        store = self.world.path("pack", ".rellum", "backups")
        for name in os.listdir(store):
            with open(os.path.join(store, name), "rb") as file:
                content = file.read()
            if content == b"a1":
                os.unlink(os.path.join(store, name))
        self.assertIn("saves/a.sav", self.say("backup", "check", status=1))
        self.save({"a.sav": b"spoilt", "deep/b.sav": b"spoilt"})
        told = self.say("backup", "back", "1", "--yes", status=1)
        self.assertIn("saves/a.sav cannot be brought back", told)
        self.assertEqual(self.read("game", "saves", "deep", "b.sav"), b"b1")
        self.assertEqual(self.read("game", "saves", "a.sav"), b"spoilt")

    def test_bad_calls(self) -> None:
        for words in (
            ("backup", "back"),
            ("backup", "evening"),
            ("backup", "make", "12"),
            ("backup", "compare", "--exactly"),
        ):
            self.say(*words, status=2)
        self.say("backup", "make", "one")
        self.save({"a.sav": b"a2"})
        self.say("backup", "make", "one", status=2)
        self.assertIn("did you mean", self.say("backup", "back", "one", "saves/a.sax", status=2))

    def test_a_game_that_keeps_nothing(self) -> None:
        write_tree(self.world.path("catalog"), {"games/fathomline.toml": self.plain_sheet()})
        self.assertIn("There is nothing to keep", self.say("backup"))
        self.assertFalse(os.path.exists(self.world.path("pack", ".rellum", "backups")))

    def plain_sheet(self) -> bytes:
        with open(self.world.path("catalog", "games", "fathomline.toml"), encoding="utf-8") as file:
            text = file.read()
        with open(self.world.path("pack", "rellum.toml"), encoding="utf-8") as file:
            pack = file.read()
        write_tree(
            self.world.path("pack"),
            {"rellum.toml": pack.replace('[game.places]\nsettings = "../player"\n', "").encode()},
        )
        kept = [
            line
            for line in text.splitlines()
            if not line.startswith(("carry", "saves", "settings"))
        ]
        return "\n".join(kept).encode()
