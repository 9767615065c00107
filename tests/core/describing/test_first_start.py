"""What a first start of a game tells: what is the player's, what the game writes, where it keeps things."""

from __future__ import annotations

import os
import random
import tempfile
import unittest

from rellum.core.describing.expansions import alike_folders
from rellum.core.describing.first_start import Seen, as_user_folder, look, what_changed
from rellum.core.describing.game_signs import GameFile
from tests.support import memory_folder, write_tree


class FirstStartTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = self.enterContext(tempfile.TemporaryDirectory(dir=memory_folder()))
        self.root = os.path.realpath(folder)
        self.game = os.path.join(self.root, "home", "games", "fen")
        self.bases = {
            kind: os.path.join(self.root, "home", kind) for kind in ("documents", "config", "data")
        }
        self.bases["home"] = os.path.join(self.root, "home")
        vanilla = {"fen.bin": b"p", "data/a.dat": b"a", "data/b.dat": b"b", "saves/first.sav": b"1"}
        write_tree(self.game, vanilla)
        write_tree(self.bases["config"], {"Fen/o.ini": b"1", "other/x": b"x"})
        self.before = look(self.game, self.bases)

    def changed(self, *written: str) -> tuple[tuple[str, ...], ...]:
        for each in written:
            write_tree(self.game, {each: b"changed"})
        found = what_changed(self.before, look(self.game, self.bases))
        return found.players, found.written_by_game, found.outside

    def test_nothing_changed(self) -> None:
        self.assertTrue(what_changed(self.before, look(self.game, self.bases)).is_empty)

    def test_folders_and_single_files(self) -> None:
        players, by_game, _ = self.changed(
            "data/a.dat", "saves/new/w.sav", "worlds/one/w", "worlds/two/w", "logs/a.txt", "x.log"
        )
        self.assertEqual(players, ("data/a.dat", "saves", "worlds"))
        self.assertEqual(by_game, ("logs", "x.log"))

    def test_the_users_folders(self) -> None:
        write_tree(self.bases["config"], {"Fen/o.ini": b"22"})
        write_tree(self.bases["data"], {"Fen Studio/cache/p": b"p"})
        self.assertEqual(self.changed()[2], ("{config}/Fen", "{data}/Fen Studio"))

    def test_a_typed_folder(self) -> None:
        for typed, expected in (
            (os.path.join(self.bases["config"], "Fen"), "{config}/Fen"),
            (os.path.join(self.root, "home", "Fen", "deep"), "{home}/Fen/deep"),
            ("{documents}/Fen/", "{documents}/Fen"),
            (self.bases["home"], ""),
            ("{nothing}/Fen", ""),
            ("{config}", ""),
            (os.path.join(self.root, "elsewhere"), ""),
        ):
            self.assertEqual(as_user_folder(typed, self.bases), expected, typed)

    def test_every_change_is_told_and_nothing_else(self) -> None:
        dice = random.Random(20)
        names = ("a", "b", "logs", "saves", "c.log", "d.dat")
        for _ in range(300):
            before = {
                "/".join(dice.choices(names, k=dice.randint(1, 3))): (dice.randint(0, 2), 0)
                for _ in range(dice.randint(0, 8))
            }
            after = {
                p: (s[0], dice.choice((0, 0, 1))) for p, s in before.items() if dice.random() < 0.9
            }
            after |= {"/".join(dice.choices(names, k=2)): (9, 9) for _ in range(dice.randint(0, 3))}
            files = {p for p in after if not any(o.startswith(f"{p}/") for o in (*before, *after))}
            after = {path: after[path] for path in files}
            told = what_changed(Seen(before, {}), Seen(after, {}))
            named = (*told.players, *told.written_by_game)
            changed = {path for path, stamp in after.items() if before.get(path) != stamp}
            covered = {p for p in after if any(p == n or p.startswith(f"{n}/") for n in named)}
            self.assertLessEqual(changed, covered)
            for path in (
                covered - changed
            ):  # only a folder of such a name may hold what did not change
                self.assertTrue({"logs", "saves"} & set(path.split("/")[:-1]), (path, named))


class ExpansionsTest(unittest.TestCase):
    def test_folders_like_a_base_and_in_a_folder_of_expansions(self) -> None:
        def found(*paths: str) -> list[str]:
            return alike_folders([GameFile(path=path, size=1) for path in paths])

        alike = [f"{folder}/{name}" for folder in ("base", "deep") for name in ("m.dat", "t.dat")]
        self.assertEqual(found(*alike, "docs/m.dat", "docs/t.dat"), ["deep"])
        self.assertEqual(found("dlc/ice/x", "data/a", "data/b"), ["dlc/ice"])
        self.assertEqual(
            found("mods/base/m.dat", "mods/base/t.dat", "mods/a/m.dat", "mods/a/t.dat"), []
        )
        self.assertEqual(found("one/m.dat", "one/t.dat", "two/m.dat", "two/t.dat"), [])
