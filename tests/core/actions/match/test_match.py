"""Trials, why, news, outlook, holds and options on real packs, in process and by the program."""

from __future__ import annotations

import csv
import datetime
import io
import json
import os
import unittest
from functools import partial
from unittest import mock

from rellum.cli.views import outlook as view
from rellum.core.actions.live.trial import BadTrial, record_trial
from rellum.core.actions.match.news import news
from rellum.core.actions.match.outlook import outlook
from rellum.core.actions.match.wants import BadOption, UnknownRelease, hold, let_go, want
from rellum.core.actions.match.why import why
from rellum.core.catalog.tables import FileFaults
from rellum.core.change.request import Request
from rellum.core.composing.line_up import NoLineUpExists
from rellum.core.composing.pack_problem import NoSuchGame
from rellum.core.pack.home import PackHome
from rellum.core.pack.lock_file import NoLineUp, read_lock
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.solving.game_versions import look_out
from tests.support import WorldTest, ignore_recovery, read_document, write_tree


class MatchTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        sheet = self.world.path("catalog", "games", "fathomline.toml")
        with open(sheet, encoding="utf-8") as file:
            text = file.read()
        versions = 'versions = ["1.5.0", "1.6.0", "1.7.0"]\nmarks'
        write_tree(
            self.world.path("catalog"),
            {"games/fathomline.toml": text.replace("marks", versions, 1).encode()},
        )
        self.add("keel", "2.0", 'game = "<1.7"')
        self.add("keel", "3.0", 'game = ">=1.7"')
        self.add("tides", "1.0", 'needs = { keel = ">=2, <3" }')
        self.add("tides", "1.1", 'needs = { keel = ">=2, <3" }')
        self.add("tides", "2.0", 'needs = { keel = ">=3" }')
        self.add("flags", "1.0", 'check-by-hand = ["a driver from 2023"]')
        self.world.adopt()

    def add(self, mod: str, version: str, says: str = "") -> None:
        self.world.add_release(mod, version, {f"mods/{mod}/{version}.dat": b"x"}, says=says)

    def pack(self) -> str:
        return self.world.path("pack")

    def edit_pack(self, old: str, new: str) -> None:
        with open(self.world.path("pack", "rellum.toml"), encoding="utf-8") as file:
            text = file.read()
        self.assertIn(old, text)
        write_tree(self.pack(), {"rellum.toml": text.replace(old, new, 1).encode()})

    def chosen(self) -> dict[str, str]:
        return {each.mod: each.version for each in read_lock(PackHome(self.pack())).releases}

    def test_fresh_for_one_mod_leaves_the_others(self) -> None:
        self.world.want("tides", "<1.1")
        self.world.want("flags")
        self.world.resolve()
        self.world.want("tides")
        self.add("flags", "2.0")
        self.assertEqual(self.world.resolve().lock.releases[1].version, "1.0")
        self.world.resolve(fresh=True, mods=("tides",))
        self.assertEqual(self.chosen(), {"keel": "2.0", "tides": "1.1", "flags": "1.0"})
        self.world.resolve(fresh=True)
        self.assertEqual(self.chosen()["flags"], "2.0")
        result = self.world.run("resolve", "flags")
        self.assertEqual(result.returncode, 2)
        self.assertIn("only with --fresh", result.stderr)

    def test_notes_to_check_by_hand_and_optional_wants(self) -> None:
        self.world.want("flags")
        want(Request(pack_folder=self.pack()), ["tides@>=2"], optional=True)
        result = self.world.resolve()
        self.assertEqual(result.notes, (("flags", "a driver from 2023"),))
        self.assertEqual(result.left_out, ("tides",))
        self.assertTrue(read_pack_file(PackHome(self.pack())).wants[1].optional)

    def test_a_works_trial_opens_and_a_breaks_trial_closes(self) -> None:
        self.world.want("keel", ">=3")
        with self.assertRaises(NoLineUpExists) as caught:
            self.world.resolve()
        self.assertIn("move to game 1.7.0", caught.exception.hint)
        record_trial(
            Request(pack_folder=self.pack(), on_recovered=ignore_recovery),
            "works",
            ["keel@3.0"],
            note='so "calm"',
        )
        with self.assertRaises(NoLineUpExists) as caught:
            self.world.resolve()
        self.assertIn("trust what was tried", caught.exception.hint)
        self.edit_pack("[pack]", '[pack]\ntrust = "tried"')
        today = datetime.date.today().isoformat()
        self.assertEqual(
            self.world.resolve().lock.releases[0].trial, f"works on game 1.6.0, tried {today}"
        )
        self.world.want("flags")
        self.world.resolve()
        result = self.world.run("trial", "breaks", "--note", "it sank", "--json")
        releases = json.loads(result.stdout)["releases"]
        self.assertEqual(
            [(each["mod"], each["version"]) for each in releases],
            [("keel", "3.0"), ("flags", "1.0")],
        )
        with self.assertRaises(NoLineUpExists) as caught:
            self.world.resolve()
        told = "".join(caught.exception.details)
        self.assertIn("keel 3.0 and flags 1.0 broke together on game 1.6.0", told)

    def test_a_trial_of_what_is_not_there(self) -> None:
        with self.assertRaises(NoLineUp):
            record_trial(Request(pack_folder=self.pack(), on_recovered=ignore_recovery), "works")
        with self.assertRaises(UnknownRelease):
            record_trial(
                Request(pack_folder=self.pack(), on_recovered=ignore_recovery), "works", ["keel@9"]
            )
        self.world.resolve()
        with self.assertRaises(BadTrial):
            record_trial(
                Request(pack_folder=self.pack(), on_recovered=ignore_recovery), "works", ["keel"]
            )
        for game in ("the newest", "soon", "1.9.0"):
            with self.assertRaises(BadTrial):
                record_trial(
                    Request(pack_folder=self.pack(), on_recovered=ignore_recovery),
                    "works",
                    ["keel@3.0"],
                    game=game,
                )
        self.assertFalse(os.path.exists(PackHome(self.pack()).trials_file))
        write_tree(self.pack(), {"trials.toml": b'[[trial]]\noutcome = "sinks"\n'})
        with self.assertRaises(FileFaults):
            record_trial(
                Request(pack_folder=self.pack(), on_recovered=ignore_recovery),
                "works",
                ["keel@3.0"],
            )

    def test_why(self) -> None:
        self.world.want("tides")
        hold(Request(pack_folder=self.pack()), "tides", "1.0", "1.1 makes waves")
        self.world.resolve()
        answer = why(Request(pack_folder=self.pack(), on_recovered=ignore_recovery), "tides")
        self.assertEqual([each.text for each in answer.asked_by], ["the pack wants tides"])
        self.assertIn("holds it at 1.0 (1.1 makes waves)", answer.fixed_by[0].text)
        self.assertEqual(
            {each.release.version.text: each.brief for each in answer.answers},
            {"2.0": "held at 1.0: 1.1 makes waves", "1.1": "held at 1.0: 1.1 makes waves"},
        )
        self.assertEqual(let_go(Request(pack_folder=self.pack()), "tides"), "1.0")
        newer = why(
            Request(pack_folder=self.pack(), on_recovered=ignore_recovery), "tides", "1.1"
        ).answers[0]
        self.assertTrue(newer.outcome.is_free)
        needed = why(Request(pack_folder=self.pack(), on_recovered=ignore_recovery), "keel")
        self.assertEqual([each.text for each in needed.asked_by], ["tides 1.0 needs keel >=2, <3"])
        absent = why(Request(pack_folder=self.pack(), on_recovered=ignore_recovery), "flags")
        self.assertIsNone(absent.chosen)
        self.assertTrue(absent.answers[0].outcome.reason is None)
        with self.assertRaises(UnknownRelease):
            why(Request(pack_folder=self.pack(), on_recovered=ignore_recovery), "tides", "7")
        result = self.world.run("why", "tides", "2.0")
        self.assertIn("tides 2.0: cannot be taken: needs keel >=3", result.stdout)
        self.assertIn("cards/keel.toml", result.stdout)

    def test_why_of_a_long_way(self) -> None:
        """What speaks of the release is told; the way to it where that is asked for."""
        self.add("wick", "1.0")
        self.add("wick", "2.0", 'needs = { link-01 = ">=2" }')
        for number in range(1, 26):
            self.add(f"link-{number:02}", "1.0")
            more = (
                f'needs = {{ link-{number + 1:02} = ">=2" }}' if number < 25 else 'game = ">=1.7"'
            )
            self.add(f"link-{number:02}", "2.0", more)
        self.world.want("wick")
        self.world.resolve()
        told = self.world.run("why", "wick").stdout
        self.assertIn("wick 2.0: cannot be taken: needs link-01 >=2", told)
        self.assertIn("wick 2.0 needs link-01 >=2  (../catalog/cards/wick.toml:", told)
        self.assertNotIn("link-13", told)
        count = int(told.partition("That follows from ")[2].split()[0])
        self.assertGreater(count, 25)
        self.assertIn(f"That follows from {count} statements: rellum why wick 2.0 --full", told)
        [answer] = read_document(self.world.run("why", "wick", "2.0", "--json").stdout)["releases"]
        self.assertEqual(len(answer["statements"]), count)
        whole = self.world.run("why", "wick", "2.0", "--full").stdout
        self.assertIn("link-13 2.0 needs link-14 >=2", whole)
        self.assertNotIn("That follows", whole)
        self.add("wick", "2.1", 'needs = { link-01 = ">=2" }')
        told = " ".join(self.world.run("news").stdout.split())
        self.assertIn("wick 1.0 2.0 and 2.1 full", told)
        self.assertEqual(told.count("needs link-01 >=2"), 1)
        row = read_document(self.world.run("news", "--json").stdout)["releases"][-1]
        self.assertEqual((row["brief"], row["statements"]), ("needs link-01 >=2", []))
        row = read_document(self.world.run("news", "wick", "--json").stdout)["releases"][-1]
        self.assertEqual(len(row["statements"]), count)

    def test_the_line_up_is_held_against_the_cards_of_today(self) -> None:
        self.world.want("keel", "=2.0")
        self.world.resolve()
        card = self.world.path("catalog", "cards", "keel.toml")
        with open(card, encoding="utf-8") as file:
            text = file.read()
        with open(card, "w", encoding="utf-8") as file:
            file.write(text.replace('game = "<1.7"', 'game = "<1.6"'))
        for command in ("check", "list"):
            self.assertIn(
                "keel 2.0 is for game <1.6 by its card now", self.world.run(command).stderr
            )
        said = self.world.run("status").stdout
        self.assertIn("Next: rellum resolve", said)
        self.assertIn("keel 2.0 is for game <1.6", said)
        self.assertIn("and the game is 1.6.0", self.world.run("why", "keel").stdout)

    def test_what_leaves_as_it_was_dropped_is_no_consequence_of_news(self) -> None:
        self.world.want("tides", "=1.0")
        self.world.add_release("lone", "1.0", {"l.dat": b"l"})
        self.world.want("lone")
        self.world.resolve()
        self.world.drop("lone")
        self.world.want("tides")
        self.assertNotIn("lone", self.world.run("news").stdout)

    def test_a_pre_release_that_is_not_taken_is_named(self) -> None:
        self.world.add_release("lone", "1.0", {"l.dat": b"l"})
        self.world.add_release("lone", "2.0-beta", {"l.dat": b"m"})
        self.world.take_all()
        self.world.want("lone")
        self.world.apply()
        said = self.world.run("apply", "--newest", "lone", "--yes").stdout
        self.assertIn("2.0-beta is a pre-release: 'rellum want lone@2.0-beta' asks for it", said)
        self.assertEqual(self.world.run("want", "lone@2.0-beta").returncode, 0)
        self.world.apply()
        self.assertEqual(self.world.game()["l.dat"].content, b"m")

    def test_nothing_is_said_of_a_release_that_it_meets(self) -> None:
        """In a pack that cannot be had, and of a mod that the pack does not want."""
        self.world.want("tides")
        self.world.want("flags")
        self.world.resolve()
        self.add("flags", "2.0")
        self.add("ice", "1.0", 'game = ">=1.7"')
        told = self.world.run("why", "ice").stdout
        self.assertIn("ice 1.0: cannot be taken: is for game >=1.7", told)
        self.assertNotIn("wants ice", told)
        self.world.want("tides", ">=2")
        nothing = "cannot be had beside what the pack asks for"
        briefs = {
            each["release"]["mod"]: each["brief"]
            for each in read_document(self.world.run("news", "--json").stdout)["releases"]
        }
        self.assertEqual(briefs["flags"], nothing)
        told = self.world.run("why", "flags").stdout
        self.assertIn(f"flags 2.0: cannot be taken: {nothing}", told)
        self.assertIn("the pack wants tides >=2", told)
        self.assertNotIn("the pack wants flags", told.partition("flags 2.0:")[2])

    def test_news(self) -> None:
        self.world.want("tides", "<=1.1")
        self.world.resolve()
        told = {
            each.release.mod: each.brief
            for each in news(
                Request(pack_folder=self.pack(), on_recovered=ignore_recovery)
            ).releases
        }
        self.assertEqual(told, {"keel": "is for game >=1.7", "tides": "the pack wants tides <=1.1"})
        self.add("keel", "2.5", 'game = "<1.7"')
        self.assertEqual(self.world.run("news", "flags").returncode, 2)
        self.assertIn("tides 1.1", self.world.run("news", "tides").stdout.replace("  ", " "))
        document = json.loads(self.world.run("news", "--json").stdout)
        rows = {
            (each["release"]["mod"], each["release"]["version"]): each
            for each in document["releases"]
        }
        self.assertTrue(rows["keel", "2.5"]["is_free"])
        self.assertGreater(rows["keel", "2.5"]["bytes"], 0)

    def test_outlook(self) -> None:
        self.add("anchor", "1.0", 'needs = { keel = "<3" }')
        self.world.want("tides")
        self.world.want("anchor")
        self.world.resolve()
        result = outlook(Request(pack_folder=self.pack(), on_recovered=ignore_recovery))
        by_game = {each.game.text: each for each in result.versions}
        self.assertEqual(by_game["1.6.0"].give_up, ())
        self.assertEqual([one.mod for one in by_game["1.7.0"].give_up or ()], ["anchor"])
        status = {cell.mod: cell.status for cell in by_game["1.7.0"].cells}
        self.assertEqual(status, {"tides": "other", "anchor": "back", "keel": "other"})
        table = self.world.run("outlook", "--form", "csv").stdout
        rows = list(csv.DictReader(io.StringIO(table)))
        self.assertEqual(len(rows), 9)
        for name in ("o.png", "o.svg"):
            self.assertEqual(self.world.run("outlook", "--figure", name).returncode, 0)
            self.assertGreater(os.path.getsize(self.world.path("pack", name)), 5000)
        self.assertEqual(self.world.run("outlook", "--figure", "o.doc").returncode, 2)

    def test_an_outlook_leaves_open_what_takes_too_much(self) -> None:
        self.world.want("tides")
        self.world.resolve()
        little = partial(look_out, most=1)
        with mock.patch("rellum.core.actions.match.outlook.look_out", little):
            result = outlook(Request(pack_folder=self.pack(), on_recovered=ignore_recovery))
        for each in result.versions:
            self.assertFalse(each.is_worked_out)
            self.assertEqual({cell.status for cell in each.cells}, {"unknown"})
        said = {each["is_worked_out"] for each in view.document(result)["versions"]}
        self.assertEqual(said, {False})

    def test_the_game_as_a_range(self) -> None:
        self.world.want("tides", ">=2")
        self.edit_pack("[game]", '[game]\nrange = ">=1.6"')
        result = self.world.resolve()
        self.assertEqual(result.lock.game_version.text, "1.7.0")
        self.assertTrue(result.is_for_other_game)
        with self.assertRaisesRegex(NoLineUp, "for game 1.7.0, and the folder holds 1.6.0"):
            self.world.apply()
        self.edit_pack('">=1.6"', '">=3"')
        with self.assertRaises(NoSuchGame):
            self.world.resolve()

    def test_options_and_builds_reach_the_lock_and_the_game(self) -> None:
        archive = self.world.path("downloads", "flags-1.0.zip")
        with open(archive, "rb") as file:
            content = file.read()
        card = self.world.cards["flags"]
        one, rest = card.split("[[release.file]]")
        text = (
            f'{one}[[release.build]]\nname = "far"\ngame = ">=1.7"\n'
            f'[[release.build]]\nname = "near"\ngame = "<1.7"\n[[release.build.file]]{rest}'
        ).replace("[[release.place]]", "[[release.build.place]]")
        text += '[[option]]\nid = "cloth"\ndefault = "silk"\n'
        text += '[[option.choice]]\nid = "silk"\n[[option.choice]]\nid = "wool"\nneeds = { keel = "*" }\n'
        write_tree(self.world.path("catalog", "cards"), {"flags.toml": text.encode()})
        self.assertGreater(len(content), 0)
        self.world.take_all()
        self.world.want("flags")
        flags = self.world.resolve().lock.releases[0]
        self.assertEqual((flags.build, flags.options), ("near", (("cloth", ("silk",)),)))
        self.world.apply()
        self.assertIn("mods/flags/1.0.dat", self.world.game())
        result = self.world.run("want", "flags", "--option", "cloth=wool")
        self.assertEqual(result.returncode, 0, result.stderr)
        self.assertEqual(
            [each.mod for each in self.world.resolve().lock.releases], ["flags", "keel"]
        )
        for options in ({"cloth": ("tin",)}, {"size": ("xl",)}, {"cloth": ("silk", "wool")}):
            with self.assertRaises(BadOption):
                want(Request(pack_folder=self.pack()), ["flags"], options=options)
        self.edit_pack("wool", "tin")
        with self.assertRaisesRegex(FileFaults, "rellum.toml"):
            self.world.resolve()

    def test_calls_that_do_not_go_together(self) -> None:
        for words in (
            ("hold", "keel"), ("hold", "keel", "2.0"), ("hold", "keel", "9", "--reason", "x"),
            ("hold", "keel", "--off"), ("trial", "sinks"), ("why", "keeel"), ("news",),
            ("vet", "../nowhere"),
        ):  # fmt: skip
            result = self.world.run(*words)
            self.assertEqual(result.returncode, 2, (words, result.stdout, result.stderr))
            self.assertNotIn("Traceback", result.stderr)

    def test_a_refusal_for_programs(self) -> None:
        self.world.want("tides", ">=2")
        document = json.loads(self.world.run("resolve", "--json").stdout)["error"]
        self.assertEqual(document["code"], "no-line-up-exists")
        self.assertEqual(document["wants"], ["tides"])
        self.assertEqual([each["kind"] for each in document["remedies"]], ["widen", "game", "drop"])
        self.assertTrue(all(each["text"] for each in document["statements"]))


if __name__ == "__main__":
    unittest.main()
