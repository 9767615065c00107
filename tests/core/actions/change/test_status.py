"""Status, list and compare, against what a test did itself."""

from __future__ import annotations

import csv
import inspect
import io
import json
import os
import shutil
from collections.abc import Callable
from typing import Any

from rellum.core.hashing import hash_bytes
from tests.support import WorldTest, run_rellum, write_tree


class StatusTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        note = 'check-by-hand = ["needs a large screen"]'
        self.world.add_release("tides", "1.0", {"mods/tides/a.dat": b"a"}, says=note)
        self.world.add_release("tides", "2.0", {"mods/tides/a.dat": b"b"}, says=note)
        self.world.add_release(
            "swell", "1.0", {"mods/swell/a.dat": b"s"}, says='needs = { tides = "*" }'
        )
        self.world.adopt()

    def told(self, *words: str, folder: str = "pack") -> Any:
        done = run_rellum(
            *words, "--json", cwd=self.world.path(folder), shelf=self.world.path("shelf")
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        return json.loads(done.stdout)

    def next(self) -> str:
        step = self.told("status")["next"]
        return step["command"] if step else ""

    def test_each_step_is_told_until_nothing_is_left(self) -> None:
        self.assertEqual(self.next(), "rellum want MOD")
        self.world.want("swell")
        self.assertEqual(self.next(), "rellum resolve")
        self.world.resolve()
        self.assertEqual(self.next(), "rellum fetch")
        self.assertEqual([each["file"] for each in self.told("status")["missing"]],
                         ["tides-2.0.zip", "swell-1.0.zip"])  # fmt: skip
        self.world.take_all()
        self.assertEqual(self.next(), "rellum preview")
        self.world.apply()
        self.assertEqual(self.next(), "")
        found = self.told("status")
        self.assertEqual(found["drift_count"], 0)
        self.assertEqual([each["laid"]["version"] for each in found["mods"]], ["2.0", "1.0"])
        self.assertTrue(all(each["since"] for each in found["mods"]))
        self.assertEqual(found["check_by_hand"][0]["text"], "needs a large screen")
        self.world.write_game("mods/tides/a.dat", b"changed")
        self.assertEqual(self.next(), "rellum check")
        self.world.write_game("mods/tides/a.dat", b"b")
        self.world.run("hold", "tides", "1.0", "--reason", "2.0 is too wet")
        self.assertEqual(self.next(), "rellum resolve")
        held = {"mod": "tides", "version": "1.0", "reason": "2.0 is too wet"}
        self.assertEqual(self.told("status")["holds"], [held])

    def test_it_is_said_from_memory_until_anything_changes_that_it_speaks_of(self) -> None:
        self.world.take_all()
        self.world.change_sheet(places='saves = "@game/saves"')
        self.world.want("tides")
        self.world.apply()
        for name in ("one", "two", "three", "four", "five"):
            self.world.write_game(f"saves/{name}.sav", b"one")
        seeds = iter(range(1, 100))
        answers = self.world.path("pack", ".rellum", "answers", "status")

        def from_memory(change: Callable[[], object] = lambda: None) -> bool:
            """Whether it is, when another answer stands there and something changes then."""
            os.environ["PYTHONHASHSEED"] = str(next(seeds))  # no order of a set may decide
            self.told("status")
            with open(answers, "rb") as file:
                mark, _, text = file.read().split(b"\n")
            other = text.replace(b"Fathomline", b"Other game")
            with open(answers, "wb") as file:
                file.write(b"%s\n%s\n%s" % (mark, hash_bytes(other).encode(), other))
            change()
            os.environ["PYTHONHASHSEED"] = str(next(seeds))
            return bool(self.told("status")["game_name"] == "Other game")

        self.assertTrue(from_memory())
        for change in (
            lambda: self.world.write_game("saves/one.sav", b"two"),
            lambda: self.world.run("backup", "make", "mine"),
            lambda: self.world.checkpoint("here"),
            lambda: self.world.run("variant", "new", "wet"),
            lambda: self.world.run("hold", "tides", "2.0", "--reason", "dry"),
            lambda: self.world.resolve(),
            lambda: os.utime(self.world.path("pack", "rellum.lock"), (1, 1)),
            lambda: self.world.write_game("data/new.txt", b"new"),
        ):
            with self.subTest(change=inspect.getsource(change).strip()):
                self.assertFalse(from_memory(change))
        with open(answers, "ab") as file:
            file.write(b"torn")
        self.assertEqual(self.told("status")["game_name"], "Fathomline")

    def test_since_is_when_the_release_came_not_when_something_else_changed(self) -> None:
        self.world.take_all()
        self.world.want("tides", "=1.0")
        self.world.resolve()
        self.world.apply()
        first = self.told("status")["mods"][0]["since"]
        self.world.want("swell")
        self.world.resolve()
        self.world.apply()
        history = self.told("history")["changes"]
        since = {each["mod"]: each["since"] for each in self.told("status")["mods"]}
        self.assertEqual(since, {"tides": first, "swell": history[0]["at"]})

    def test_a_pack_is_found_from_below_and_from_its_game_but_not_from_a_copy(self) -> None:
        self.world.take_all()
        self.world.want("tides")
        self.world.apply()
        os.makedirs(self.world.path("pack", "notes", "deep"))
        here = self.world.path("pack")
        for folder in ("pack/notes/deep", "game", "game/data"):
            self.assertEqual(self.told("status", folder=folder)["pack_folder"], here)
        shutil.copytree(self.world.path("game"), self.world.path("copy"))
        done = run_rellum("status", cwd=self.world.path("copy"), shelf=self.world.path("shelf"))
        self.assertIn("there is no rellum.toml", done.stderr)

    def test_the_list_in_every_form(self) -> None:
        self.world.take_all()
        self.world.want("swell")
        self.world.apply()
        mods = self.told("list")["mods"]
        self.assertEqual([(each["mod"], each["needed_by"]) for each in mods],
                         [("tides", ["swell"]), ("swell", [])])  # fmt: skip
        self.assertEqual([each["mod"] for each in self.told("list", "SWE")["mods"]], ["swell"])
        rows = list(csv.reader(io.StringIO(self.world.run("list", "--form", "csv").stdout)))
        self.assertEqual([row[0] for row in rows], ["mod", "tides", "swell"])
        markdown = self.world.run("list", "--form", "markdown").stdout.splitlines()
        self.assertEqual([line.count("|") for line in markdown], [len(rows[0]) + 1] * 4)
        text = self.world.run("list", "--form", "text").stdout
        self.assertEqual(text, "Tides 2.0; needs a large screen\nSwell 1.0\n")
        found = self.told("list", "--catalog")["catalog"]
        self.assertEqual([(each["mod"], each["release_count"], each["is_wanted"]) for each in found],
                         [("swell", 1, True), ("tides", 2, False)])  # fmt: skip
        self.world.drop("swell")
        self.world.want("tides")
        self.world.resolve()
        goes = {each["mod"]: each["goes"] for each in self.told("list")["mods"]}
        self.assertEqual(goes, {"tides": False, "swell": True})
        self.assertRegex(self.world.run("list").stdout, r"swell +1.0 +[0-9-]+ +leaves")
        os.rename(self.world.path("catalog"), self.world.path("gone"))
        self.assertEqual([each["mod"] for each in self.told("list")["mods"]], ["tides", "swell"])

    def test_settings_of_a_checkpoint_beside_those_of_now(self) -> None:
        self.world.change_sheet(places='settings = "@game/config"')
        for name, content in (("a.ini", b"a = 1\n"), ("b.ini", b"b = 1\n")):
            self.world.write_game(f"config/{name}", content)
        self.world.checkpoint("before")
        self.world.write_game("config/a.ini", b"a = 2\n")
        os.unlink(self.world.path("game", "config", "b.ini"))
        found = self.told("compare", "before")
        self.assertEqual(
            {each["path"]: each["difference"] for each in found["settings"]},
            {
                "@game/config/a.ini": "another content",
                "@game/config/b.ini": "only in the first",
            },
        )
        self.assertEqual(found["files"], [])

    def test_grafts_are_part_of_the_line_up(self) -> None:
        """In status, list, compare and history; and one that takes from this game does not change itself."""
        world = self.world
        world.take_all()
        world.want("tides", "=1.0")
        world.apply()
        write_tree(world.path("donor"), {"sea.dat": b"donor"})
        self.assertEqual(world.run("variant", "new", "calm").returncode, 0)
        for name, donor, take, slot in (
            ("lamp", "../donor", "*.dat", "@game/data/sea.dat"),
            ("own", "../game", "data/*.dat", "@game/data/twin.dat"),
        ):
            words = ("--donor", donor, "--take", take.replace("*", "sea"), "--slot", slot)
            self.assertEqual(world.run("graft", name, *words).returncode, 0)
        self.assertEqual(self.told("status")["line_up"], "outdated")
        world.apply()
        self.assertEqual(world.game()["data/twin.dat"].content, b"vanilla sea\n")
        laid = world.game(times=True)
        for _ in range(2):
            self.assertTrue(world.apply().preview.plan.is_empty)
        self.assertEqual(world.game(times=True), laid)
        found = self.told("status")
        self.assertEqual((found["line_up"], found["next"]), ("current", None))
        mods = {each["mod"]: (each["laid"], each["chosen"]) for each in found["mods"]}
        self.assertTrue(all(a == b for a, b in mods.values()), mods)
        self.assertEqual(set(mods), {"tides", "lamp", "own"})
        self.assertNotIn("leaves", world.run("list").stdout)
        said = world.run("variant", "compare", "main", "calm")
        self.assertIn("graft into @game/data/sea.dat", said.stdout)
        self.assertIn("+ lamp graft", world.run("history").stdout)
        self.assertEqual(world.run("check").returncode, 0)

    def test_two_line_ups_side_by_side(self) -> None:
        self.world.take_all()
        self.world.want("tides", "=1.0")
        self.world.apply()
        write_tree(self.world.path("game"), {"mods/tides/mine.txt": b"mine"})
        self.world.checkpoint("wet")
        shutil.copy(self.world.path("pack", "rellum.lock"), self.world.path("old.lock"))
        self.world.want("tides", "=2.0")
        self.world.want("swell")
        self.world.apply()
        releases = [
            {"mod": "swell", "first": None, "second": "1.0"},
            {"mod": "tides", "first": "1.0", "second": "2.0"},
        ]
        found = self.told("compare", "wet")
        self.assertEqual(found["releases"], releases)
        self.assertEqual(
            found["files"],
            [
                {"path": "@game/mods/swell/a.dat", "difference": "only in the second"},
                {"path": "@game/mods/tides/a.dat", "difference": "another content"},
            ],
        )
        self.assertEqual(self.told("compare", "../old.lock", "now")["releases"], releases)
        self.assertEqual(self.told("compare", "now", "now")["releases"], [])
        self.assertEqual(len(self.told("compare", "main", "vanilla", "--files")["files"]), 2)
        refused = self.world.run("compare", "wett")
        self.assertEqual(refused.returncode, 2)
        self.assertIn("did you mean 'wet'", refused.stderr)
