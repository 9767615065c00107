"""The hunt as a whole: the built program lays halves, asks a command, goes on, ends, and puts all back."""

from __future__ import annotations

import json
import os
import sys

from tests.support import WorldTest, without_marker, write_tree

MODS = tuple(f"mod-{letter}" for letter in "abcdefgh")


class HuntingTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.change_sheet(places='saves = "@game/saves"')
        write_tree(self.world.path("game"), {"saves/a.sav": b"as it was"})
        for mod in MODS:
            needs = 'needs = { mod-b = "*" }' if mod in ("mod-e", "mod-g") else ""
            shared = {"mods/shared.dat": mod.encode()} if mod in ("mod-c", "mod-f") else {}
            files = {f"mods/{mod}/a.dat": mod.encode(), "data/sea.dat": mod.encode(), **shared}
            self.world.add_release(mod, "1.0", files, says=needs)
        self.world.adopt()
        self.world.take_all()
        for mod in MODS:
            self.world.want(mod)
        self.world.apply()
        self.before = without_marker(self.world.game())
        write_tree(self.world.root, {"try.py": self.script().encode()})

    def script(self) -> str:
        """Return a game that breaks with all of some mods, and writes into a save."""
        return (
            "import os, sys\n"
            "game = sys.argv[1]\n"
            "open(game + '/saves/a.sav', 'a').write('x')\n"
            "there = all(os.path.isdir(f'{game}/mods/{mod}') for mod in sys.argv[2:])\n"
            "sys.exit(1 if there else 0)\n"
        )

    def command(self, *culprits: str) -> str:
        words = (sys.executable, self.world.path("try.py"), self.world.path("game"), *culprits)
        return " ".join(f'"{word}"' for word in words)

    def hunt(self, *words: str, status: int = 0) -> str:
        done = self.world.run("hunt", *words)
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def test_a_pair_is_found_and_all_is_as_before(self) -> None:
        told = self.hunt("--run", self.command("mod-c", "mod-f"))
        self.assertIn("mod-c and mod-f, together", told)
        self.assertIn("mod-c and mod-f both change mods/shared.dat; mod-f wins", told)
        self.assertIn("Tried: the pack works without", told)
        self.assertEqual(without_marker(self.world.game()), self.before)
        with open(self.world.path("pack", "trials.toml"), encoding="utf-8") as file:
            trials = file.read()
        self.assertIn('outcome = "breaks"', trials)
        self.assertIn('outcome = "works"', trials)
        self.assertEqual(self.world.run("check").returncode, 0)
        self.assertEqual(
            self.world.run("resolve").returncode, 1
        )  # they are not chosen together again

    def test_another_release_is_proposed_and_it_is_what_resolve_chooses(self) -> None:
        self.world.add_release("mod-f", "0.9", {"mods/mod-f/a.dat": b"older"})
        self.world.take_all()
        found = json.loads(self.hunt("--run", self.command("mod-c", "mod-f"), "--json"))
        [instead] = found["resolve_would_choose"]
        self.assertEqual(
            (instead["release"]["version"], instead["instead_of"]["version"]), ("0.9", "1.0")
        )
        self.assertEqual(instead["release"]["mod"], "mod-f")
        chosen = {each.mod: each.version for each in self.world.resolve().lock.releases}
        self.assertEqual(chosen, {**dict.fromkeys(MODS, "1.0"), "mod-f": "0.9"})

    def test_a_single_one_that_others_need(self) -> None:
        told = self.hunt("--run", self.command("mod-b"), "--json")
        found = json.loads(told)
        self.assertEqual(found["culprits"], [["mod-b"]])
        self.assertEqual(found["ended"], "found")

    def test_it_goes_on_after_a_restart_and_asks_the_same(self) -> None:
        culprits = {"mod-c", "mod-f"}
        asked = json.loads(self.hunt("--json"))
        for _ in range(40):
            self.assertEqual(json.loads(self.hunt("--json")), asked)  # nothing was answered since
            laid = {mod for mod in MODS if os.path.isdir(self.world.path("game", "mods", mod))}
            self.assertEqual(laid, set(asked["mods"]))
            answer = "breaks" if culprits <= set(asked["mods"]) else "works"
            asked = json.loads(self.hunt("--answer", answer, "--json"))
            if asked["ended"]:
                break
        self.assertEqual(asked["culprits"], [["mod-c", "mod-f"]])
        self.assertEqual(without_marker(self.world.game()), self.before)

    def test_given_up(self) -> None:
        self.hunt()
        self.hunt("--answer", "breaks")
        self.assertNotEqual(without_marker(self.world.game()), self.before)
        self.assertIn("given up", self.hunt("--stop"))
        self.assertEqual(without_marker(self.world.game()), self.before)
        self.hunt("--stop", status=2)
        self.hunt("--answer", "works", status=2)

    def test_vanilla_or_nothing(self) -> None:
        self.assertIn("Vanilla breaks too", self.hunt("--run", "exit 1", status=1))
        self.assertIn("did not break", self.hunt("--run", "exit 0", status=1))
        self.assertEqual(without_marker(self.world.game()), self.before)

    def test_another_line_up_is_noticed(self) -> None:
        self.hunt()
        self.assertIn("a hunt is under way", self.world.run("resolve").stderr)
        with open(self.world.path("pack", "rellum.lock"), "a", encoding="utf-8") as file:
            file.write("# by hand\n")
        self.assertIn("another than when the hunt was begun", self.hunt(status=2))

    def test_what_would_spoil_it_is_refused_and_what_would_not_is_not(self) -> None:
        asked = json.loads(self.hunt("--json"))
        laid = without_marker(self.world.game())
        for words in (
            ("apply", "--yes"),
            ("variant", "use", "vanilla", "--yes"),
            ("rewind", "--yes"),
            ("sweep", "--yes"),
            ("resolve",),
            ("adopt", "../game", "--anew"),
            ("absorb", "--begin"),
        ):
            done = self.world.run(*words)
            self.assertEqual(done.returncode, 2, (words, done.stdout))
            self.assertEqual(without_marker(self.world.game()), laid, words)
            if words[0] != "adopt":
                self.assertIn("rellum hunt --stop", done.stderr)
        for text in ("drop mod-h", "hold mod-a 1.0 --reason so", "check"):
            self.assertEqual(self.world.run(*text.split()).returncode, 0, text)
        self.assertEqual(json.loads(self.hunt("--json")), asked)
        self.assertEqual(without_marker(self.world.game()), laid)
        self.hunt("--stop")
        self.assertEqual(without_marker(self.world.game()), self.before)

    def test_an_answer_counts_only_for_what_is_laid(self) -> None:
        asked = json.loads(self.hunt("--json"))
        os.unlink(self.world.path("game", "mods", asked["mods"][0], "a.dat"))
        told = self.hunt("--answer", "works", status=2)
        self.assertIn(f"not in the game as it was laid: {asked['mods'][0]}", told)
        self.assertEqual(json.loads(self.hunt("--json")), asked)
        self.hunt("--answer", "works")
        self.world.run("restore", "--mod", asked["mods"][0], "--yes")
        self.hunt("--answer", "works", status=2)
        done = self.world.run("restore", "--all", "--yes")
        self.assertIn("the hunt is given up", done.stderr)
        self.assertIn("no hunt is under way", self.hunt("--answer", "works", status=2))

    def test_it_is_about_what_is_in_the_game_whatever_is_wanted_since(self) -> None:
        self.world.add_release("mod-i", "1.0", {"mods/mod-i/a.dat": b"i"})
        self.world.take_all()
        self.world.want("mod-i")
        told = self.hunt("--run", self.command("mod-d"))
        self.assertIn("mod-d", told)
        self.assertEqual(without_marker(self.world.game()), self.before)
        self.world.drop("mod-d")
        self.world.run("resolve")
        told = self.hunt(status=2)
        self.assertIn("does not have the mods that rellum.lock has", told)
        self.assertIn("rellum apply", told)

    def test_what_comes_next_after_a_hunt(self) -> None:
        """A rewind goes back over the change before it; nobody says that the pack was not tried."""
        self.hunt("--run", self.command("mod-d"))
        said = self.world.run("status").stdout
        self.assertIn("Next: rellum resolve", said)
        self.assertIn("would undo 'apply'", self.world.run("history").stdout)
        said = self.world.run("rewind", "--yes").stdout
        self.assertIn("before 'apply'", said)
        self.assertNotIn("mods/mod-d/a.dat", self.world.game())
        self.world.run("rewind", "--yes")
        self.assertEqual(without_marker(self.world.game()), self.before)

    def test_a_damaged_log(self) -> None:
        self.hunt()
        write_tree(self.world.path("pack", ".rellum"), {"hunt.jsonl": b'{"format": 1}\n'})
        self.assertIn("damaged", self.hunt(status=2))
        self.assertIn("given up", self.hunt("--stop"))

    def test_one_checkpoint_stays_of_a_hunt(self) -> None:
        before = self.world.run("checkpoint", "--list").stdout.count("\n")
        self.hunt("--run", self.command("mod-d"))
        after = self.world.run("checkpoint", "--list").stdout
        self.assertLessEqual(after.count("\n"), before + 2, after)
