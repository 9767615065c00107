"""Publish and follow, by the built program: a curator, and players with games and shelves of their own."""

from __future__ import annotations

import hashlib
import json
import os
import random
import shutil
import subprocess
import unittest
from collections.abc import Callable
from functools import partial
from typing import Any

from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator

from rellum.core.actions.change.apply import apply
from rellum.core.actions.share.follow import FollowOptions, accepted_text, follow
from rellum.core.change.request import Request
from tests.core.change.test_failing_calls import FailingCalls
from tests.core.change.test_interruption import run_in_child
from tests.support import WorldTest, run_rellum, snapshot, without_marker, write_tree

TO = "[[release.place]]"
LAMPS = f"""\
[mod]
id = "lamps"
name = "Lamps"
[[release]]
version = "1"
{TO}
to = "@game/lamps.txt"
text = "lit"
"""


class Player:
    """Somebody with a game of the same version, and a pack that follows."""

    def __init__(self, test: FollowTest, name: str) -> None:
        self.test = test
        self.folder = test.world.path(name)
        self.game_folder = os.path.join(self.folder, "game")
        shutil.copytree(test.vanilla, self.game_folder)
        os.makedirs(os.path.join(self.folder, "pack"))

    def run(self, *words: str) -> subprocess.CompletedProcess[str]:
        shelf = os.path.join(self.folder, "shelf")
        return run_rellum(*words, cwd=os.path.join(self.folder, "pack"), shelf=shelf)

    def follow(self, *words: str, status: int = 0) -> Any:
        done = self.run("follow", *words, "--yes", "--json")
        self.test.assertEqual(done.returncode, status, done.stdout + done.stderr)
        said = json.loads(done.stdout)
        return said.get("error", said)

    def begin(self, *words: str, status: int = 0) -> Any:
        first = (self.test.feed, "--game", self.game_folder, "--trust", self.test.fingerprint)
        return self.follow(*first, *words, status=status)

    def want_lamps(self, card: str) -> None:
        """Want a mod of one's own, from a catalog of one's own."""
        self.write("own/cards/lamps.toml", card)
        for words in (("decide", "catalog", "../own"), ("want", "lamps"), ("apply", "--yes")):
            done = self.run(*words)
            self.test.assertEqual(done.returncode, 0, done.stdout + done.stderr)

    def game(self) -> dict[str, bytes | None]:
        tree = without_marker(snapshot(self.game_folder))
        return {name: entry.content for name, entry in tree.items()}

    def text(self, name: str) -> str:
        with open(os.path.join(self.folder, "pack", name), encoding="utf-8") as file:
            return file.read()

    def write(self, name: str, text: str) -> None:
        write_tree(self.folder, {name: text.encode()})


class KillingCalls(FailingCalls):
    """Ends the process at a call to the system."""

    def _fail(self, call: object, args: object, named: object) -> None:
        os._exit(9)


def killed(folder: str, at: int, work: Callable[[], None]) -> None:
    with KillingCalls(folder, at):
        work()


class FollowTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        os.environ["RELLUM_KEY_PASSWORD"] = "high tide at noon"
        self.vanilla = self.world.path("vanilla")
        places = 'settings = "@game/config"\nsaves = "@game/saves"'
        self.world.change_sheet('[settings]\n"@game/config/*.ini" = "merge"\n', places=places)
        shutil.copytree(self.world.path("game"), self.vanilla)
        for version in ("1.0", "2.0"):
            files = {
                "data/sea.dat": b"sea " + version.encode(),
                "mods/tides/t.dat": b"t" * 9000 + version.encode(),
                "config/tides.ini": f"[tides]\ndepth = {version[0]}\nsound = on\n".encode(),
            }
            self.world.add_release("tides", version, files)
        self.world.add_release("swell", "1.0", {"mods/swell/s.dat": b"s" * 5000})
        for mod in ("tides", "swell"):
            self.say(mod, "[mod]\n", '[mod]\nlicence = "MIT"\n')
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides", "1.0")
        self.world.want("swell")
        self.feed = self.world.path("feed")
        self.world.apply()
        self.fingerprint = self.publish("--keys")["fingerprint"]

    def say(self, mod: str, old: str, new: str) -> None:
        """Change a card."""
        card = self.world.cards[mod].replace(old, new, 1)
        self.world.cards[mod] = card
        write_tree(self.world.path("catalog", "cards"), {f"{mod}.toml": card.encode()})

    def publish(self, *words: str, status: int = 0) -> Any:
        done = self.world.run("publish", self.feed, *words, "--json")
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        said = json.loads(done.stdout)
        return said.get("error", said)

    def curators(self) -> dict[str, bytes | None]:
        tree = without_marker(snapshot(self.world.path("game")))
        return {name: entry.content for name, entry in tree.items()}

    def curate(self, *calls: tuple[str, ...]) -> None:
        for words in (*calls, ("apply", "--yes")):
            done = self.world.run(*words)
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)

    def test_a_player_has_the_same_and_stays_so(self) -> None:
        player = Player(self, "player")
        found = player.begin()
        self.assertEqual((found["version"], found["is_new_pack"]), (1, True))
        self.assertTrue(found["is_exact"])
        self.assertEqual(player.game(), self.curators())
        self.assertEqual(player.run("check", "--against", self.feed).returncode, 0)
        self.curate(("want", "tides@2.0"), ("drop", "swell"))
        published = self.publish("--words", "something new")
        self.assertEqual(published["updates_from"], [1])
        done = player.run("check", "--against", self.feed)
        self.assertEqual(done.returncode, 1)
        self.assertIn("You have version 1: 'rellum follow' brings version 2.", done.stdout)
        found = player.follow()
        self.assertEqual((found["version"], found["version_before"]), (2, 1))
        self.assertEqual(found["facts"]["words"], "something new")
        self.assertEqual(player.game(), self.curators())
        status = json.loads(player.run("status", "--json").stdout)
        self.assertEqual(status["feed"], {"address": self.feed, "version": 2})
        self.assertIn("'rellum follow' looks for", player.run("status").stdout)
        self.assertEqual(player.follow()["request_count"], 2)  # is there a newer root, or version?
        with open(self.world.path("pack", "rellum.lock"), encoding="utf-8") as file:
            self.assertEqual(player.text("rellum.lock"), file.read())
        proof = json.loads(player.run("check", "--against", self.feed, "--json").stdout)
        told = proof["is_same"], proof["tree_fingerprint"]
        self.assertEqual(told, (True, published["tree_fingerprint"]))
        self.spoil(os.path.join(player.game_folder, "mods", "tides", "t.dat"))
        proof = json.loads(player.run("check", "--against", self.feed, "--json").stdout)
        told = proof["is_same"], proof["differing"]
        self.assertEqual(told, (False, ["@game/mods/tides/t.dat"]))
        self.assertEqual(player.run("restore", "--damaged", "--yes").returncode, 0)
        # Back to the version before, and forward again without a byte of content.
        self.assertEqual(player.follow("--version", "1")["version"], 1)
        self.assertEqual(player.game()["data/sea.dat"], b"sea 1.0")
        self.assertLess(player.follow()["received_bytes"], 5000)
        self.assertEqual(player.game(), self.curators())
        self.assertFalse(self.publish()["is_new"])

    def test_nothing_new_is_found_without_a_key_and_anything_new_is_found(self) -> None:
        again = {**self.publish(), "is_new": False}
        del os.environ["RELLUM_KEY_PASSWORD"]
        self.assertEqual(self.publish(), again)  # said by stamps alone
        for change in (
            lambda: self.say("swell", "[mod]\n", "[mod]\n# other words\n"),
            lambda: self.world.run("trial", "works"),
            lambda: self.world.run("want", "swell@>=1"),
        ):
            change()
            self.world.run("resolve")
            self.assertEqual(self.publish(status=2)["code"], "bad-call", "something to sign")
            os.environ["RELLUM_KEY_PASSWORD"] = "high tide at noon"
            self.assertTrue(self.publish()["is_new"])
            del os.environ["RELLUM_KEY_PASSWORD"]

    @staticmethod
    def spoil(file: str) -> None:
        """Change a file so that neither its size nor its time tells."""
        before = os.stat(file)
        with open(file, "r+b") as stream:
            stream.write(b"x")
        os.utime(file, ns=(before.st_atime_ns, before.st_mtime_ns))

    def test_what_is_the_players_own_stays(self) -> None:
        player = Player(self, "player")
        player.begin()
        player.write("game/saves/one.sav", "my save")
        player.write("game/config/tides.ini", "; mine\n[tides]\ndepth = 1\nsound = off\n")
        player.want_lamps(LAMPS)
        self.curate(("want", "tides@2.0"))
        self.publish()
        found = player.follow()
        self.assertEqual((found["is_exact"], found["done"]), (False, True))
        game = player.game()
        self.assertEqual(game["lamps.txt"], b"lit")
        self.assertEqual(game["saves/one.sav"], b"my save")
        self.assertEqual(game["config/tides.ini"], b"; mine\n[tides]\ndepth = 2\nsound = off\n")
        self.assertEqual(game["data/sea.dat"], b"sea 2.0")
        # A want that both changed stays the player's, and that is said.
        player.run("want", "swell@=1.0")
        self.curate(("want", "swell@>=1"))
        self.publish()
        found = player.follow()
        self.assertEqual(found["conflicts"], ["want.swell"])
        self.assertIn('swell = "=1.0"', player.text("rellum.toml"))

    @unittest.skipUnless(hasattr(os, "fork"), "needs fork")
    def test_killed_anywhere_it_goes_on(self) -> None:
        """At one call or another to the system; what the player wants herself is there in the end."""
        player = Player(self, "player")
        player.begin()
        player.want_lamps(LAMPS)
        self.curate(("want", "tides@2.0"), ("drop", "swell"))
        self.publish()
        pack, shelf = os.path.join(player.folder, "pack"), os.path.join(player.folder, "shelf")
        request = Request(pack_folder=pack, shelf_folder=shelf)

        def update() -> None:
            follow(request, FollowOptions("", "", lambda _: False))
            apply(request._replace(follows=True), lambda _: True)

        saved = player.folder + "-saved"
        shutil.copytree(player.folder, saved)
        with FailingCalls(player.folder) as counting:
            update()
        after = player.game()
        dice = random.Random(9)
        for at in sorted(dice.sample(range(counting.count), 24)):
            shutil.rmtree(player.folder)
            shutil.copytree(saved, player.folder)
            with self.subTest(at=at, of=counting.count):
                status = run_in_child(lambda at=at: killed(player.folder, at, update))  # type: ignore[misc]
                self.assertEqual(status, 9)
                if dice.random() < 0.5:  # any other command comes first: pack and game go together
                    player.run(dice.choice(("status", "check", "want", "hold")), "lamps")
                    self.assert_together(player)
                self.assertTrue(player.follow()["done"])
                self.assertEqual(player.game(), after)
                self.assertEqual(following(shelf), [])
                self.assertIn("lamps", player.text("rellum.toml"))
                self.assertEqual(player.run("check", "--deep").returncode, 0)

    def test_what_else_is_in_the_game_is_told_beside_the_curators_files(self) -> None:
        player = Player(self, "player")
        player.begin()
        player.want_lamps(LAMPS)
        player.write("game/config/tides.ini", "[tides]\ndepth = 9\nsound = on\n")
        done = player.run("check", "--against", self.feed)
        self.assertIn("The curator's files are all as in version 1 of the feed", done.stdout)
        self.assertIn("1 mod of your own: lamps 1", done.stdout)
        self.assertIn("config/tides.ini", done.stdout)
        self.assertNotIn("follow", done.stdout)
        self.assertEqual(done.returncode, 1)
        player.write("game/mods/foreign.dat", "foreign")
        player.write("game/data/cables.dat", "changed")
        done = player.run("check", "--against", self.feed, "--json")
        said = json.loads(done.stdout)
        self.assertEqual((said["is_same"], said["is_curators"]), (False, True))
        self.assertEqual(said["foreign"], ["@game/mods/foreign.dat"])
        self.assertEqual(said["vanilla_changed"], ["@game/data/cables.dat"])
        player.write("game/data/sea.dat", "changed")
        done = player.run("check", "--against", self.feed)
        self.assertIn("Not the same as version 1", done.stdout)
        self.assertIn("1 file of the curator's mods is not as laid", done.stdout)

    def assert_together(self, player: Player) -> None:
        """The pack is at the version that the game is at."""
        player.run("status")
        is_new = player.game()["data/sea.dat"] == b"sea 2.0"
        self.assertEqual('version = "2.0"' in player.text("rellum.lock"), is_new)
        self.assertEqual("version = 2" in player.text("rellum.toml"), is_new)

    @unittest.skipUnless(hasattr(os, "fork"), "needs fork")
    def test_a_first_follow_that_was_killed_goes_on(self) -> None:
        player = Player(self, "player")
        pack, shelf = os.path.join(player.folder, "pack"), os.path.join(player.folder, "shelf")
        request = Request(pack_folder=pack, shelf_folder=shelf)
        options = FollowOptions(self.feed, player.game_folder, lambda _: True)

        def begin() -> None:
            follow(request, options)
            apply(request._replace(follows=True), lambda _: True)

        with FailingCalls(player.folder) as counting:
            begin()
        after = player.game()
        dice = random.Random(4)
        for at in sorted(dice.sample(range(counting.count), 16)):
            shutil.rmtree(player.folder)
            player = Player(self, "player")
            with self.subTest(at=at, of=counting.count):
                end = partial(killed, player.folder, at, begin)
                self.assertEqual(run_in_child(end), 9)
                self.assertNotIn("Traceback", player.run("status").stderr)
                self.assertTrue(player.begin()["done"])
                self.assertEqual(player.game(), after)
                self.assertEqual(player.run("check", "--deep").returncode, 0)
                self.assertEqual(following(shelf), [])

    def test_a_version_that_the_game_does_not_get_leaves_the_pack_too(self) -> None:
        player = Player(self, "player")
        player.begin()
        self.curate(("want", "tides@2.0"))
        self.publish()
        before = without_marker(snapshot(os.path.join(player.folder, "pack", "feed", "pack")))
        texts = (player.text("rellum.toml"), player.text("rellum.lock"), player.game())
        done = player.run("follow")  # nobody is there to say yes
        self.assertIn("needs your answer", done.stderr)
        self.assertNotEqual(done.returncode, 0)
        self.assertEqual(
            texts, (player.text("rellum.toml"), player.text("rellum.lock"), player.game())
        )
        now = without_marker(snapshot(os.path.join(player.folder, "pack", "feed", "pack")))
        self.assertEqual(now, before)
        self.assertIn("version 1", player.run("status").stdout)
        self.assertTrue(player.follow()["done"])
        self.assertEqual(player.game()["data/sea.dat"], b"sea 2.0")

    def test_a_file_that_a_killed_take_left_is_no_archive(self) -> None:
        player = Player(self, "player")
        player.begin()
        self.curate(("want", "tides@2.0"))
        self.publish()
        saved = player.folder + "-saved"
        shutil.copytree(player.folder, saved)
        before = snapshot(os.path.join(player.folder, "shelf", "archives"))
        player.follow()
        after = player.game()
        arrived = snapshot(os.path.join(player.folder, "shelf", "archives")).keys() - before.keys()
        self.assertTrue(arrived)
        for name in arrived:  # there, and the shelf's list does not have it
            source = os.path.join(player.folder, "shelf", "archives", name)
            target = os.path.join(saved, "shelf", "archives", name)
            if os.path.isfile(source):
                os.makedirs(os.path.dirname(target), exist_ok=True)
                shutil.copyfile(source, target)
        shutil.rmtree(player.folder)
        os.rename(saved, player.folder)
        self.assertTrue(player.follow()["done"])
        self.assertEqual(player.game(), after)

    def test_wants_that_do_not_go_with_the_update_leave_everything_as_it_was(self) -> None:
        player = Player(self, "player")
        player.begin()
        player.want_lamps(LAMPS.replace(TO, f'clashes = {{ tides = ">=2" }}\n{TO}'))
        before = snapshot(player.folder)
        self.curate(("want", "tides@=2.0"))
        self.publish()
        error = player.follow(status=1)
        self.assertIn("lamps", json.dumps(error))
        after = snapshot(player.folder)
        names = before.keys() | after.keys()
        changed = {name for name in names if before.get(name) != after.get(name)}
        kept = ("pack/rellum", "game/", "pack/feed/pack", "pack/feed/catalog", "pack/feed/index")
        self.assertEqual({name for name in changed if name.startswith(kept)}, set())
        self.assertEqual(player.run("check").returncode, 0)

    def test_what_may_not_be_handed_on_is_named_and_comes_by_hand(self) -> None:
        self.world.add_release("reef", "1.0", {"mods/reef/r.dat": b"reef"})
        self.world.take_all()
        self.curate(("want", "reef"))
        error = self.publish(status=2)
        self.assertEqual(error["code"], "cannot-publish")
        self.assertIn("reef", error["summary"])
        self.say("reef", "size =", 'page = "https://reef.example.invalid/"\nsize =')
        found = self.publish()
        self.assertEqual([each["mod"] for each in found["only_named"]], ["reef"])
        player = Player(self, "player")
        self.assertEqual(player.begin(status=1)["by_hand"], ["reef-1.0.zip"])
        player.run("take", self.world.path("downloads", "reef-1.0.zip"))
        self.assertTrue(player.follow()["done"])
        self.assertEqual(player.game(), self.curators())
        self.assertEqual(self.publish("--allow", "reef")["only_named"], [])
        self.assertTrue(Player(self, "another").begin()["done"])

    def test_a_game_that_the_pack_is_not_for(self) -> None:
        player = Player(self, "player")
        player.write("game/version.txt", "version: 9.9.9\n")
        before = player.game()
        error = player.begin(status=2)
        self.assertIn("9.9.9", json.dumps(error))
        self.assertFalse(os.path.exists(os.path.join(player.folder, "pack", "rellum.toml")))
        self.assertEqual(player.game(), before)
        player.write("game/version.txt", (self.curators()["version.txt"] or b"").decode())
        self.assertTrue(player.begin()["done"])

    def test_a_feed_in_one_file_and_lists_for_others(self) -> None:
        names = {
            name: self.world.path(name) for name in ("all.feed", "bill.json", "sums", "p.html")
        }
        found = self.publish("--bundle", names["all.feed"], "--bill", names["bill.json"],
                             "--sums", names["sums"], "--page", names["p.html"])  # fmt: skip
        self.assertEqual({each["file"] for each in found["files"]}, set(names.values()))
        player = Player(self, "player")
        first = ("--game", player.game_folder, "--trust", self.fingerprint)
        self.assertTrue(player.follow(names["all.feed"], *first)["done"])
        self.assertEqual(player.game(), self.curators())
        with open(names["sums"], encoding="utf-8") as file:
            for digest, name in (line.rstrip("\n").split("  ") for line in file):
                with open(self.world.path("downloads", name), "rb") as archive:
                    self.assertEqual(hashlib.sha256(archive.read()).hexdigest(), digest, name)
        with open(names["bill.json"], encoding="utf-8") as file:
            text = file.read()
        wrong = JsonStrictValidator(SchemaVersion.V1_6).validate_str(text)
        self.assertIsNone(wrong)
        bill = json.loads(text)
        told = {each["name"]: each["licenses"] for each in bill["components"]}
        self.assertEqual(told["Tides"], [{"license": {"id": "MIT"}}])
        with open(names["p.html"], encoding="utf-8") as file:
            page = file.read()
        self.assertIn("Tides", page)
        self.assertNotIn("<script", page)
        alone = self.world.run("publish", "--sums", names["sums"], "--json")
        self.assertEqual(json.loads(alone.stdout)["files"][0]["file"], names["sums"])
        self.assertEqual(self.world.run("publish").returncode, 2)

    def test_one_file_is_made_from_a_folder_only_and_never_holds_itself(self) -> None:
        done = self.world.run("publish", "davs://127.0.0.1:9/feed", "--bundle", "all", "--json")
        self.assertEqual(json.loads(done.stdout)["error"]["code"], "no-feed-folder")
        inside = os.path.join(self.feed, "all.feed")
        sizes = [self.publish("--bundle", inside)["files"][0]["bytes"] for _ in range(2)]
        self.assertEqual(*sizes)
        for option in ("--renew", f"--new-keys={self.world.path('other')}"):
            self.assertEqual(
                self.world.run("publish", self.feed, option, "--sums", "x").returncode, 2
            )

    def test_bad_calls(self) -> None:
        player = Player(self, "player")
        game = ("--game", player.game_folder)
        for words, code in (
            ((), "cannot-follow"),
            ((self.feed,), "cannot-follow"),
            (("/nowhere", *game), "not-in-feed"),
            ((self.feed, *game), "feed-not-trusted"),
            ((self.feed, *game, "--trust", "aaaa"), "feed-not-trusted"),
        ):
            with self.subTest(words=words):
                self.assertEqual(player.follow(*words, status=2)["code"], code)
        self.assertEqual(player.begin("--version", "7", status=2)["code"], "cannot-follow")
        self.assertFalse(os.path.exists(os.path.join(player.folder, "pack", "rellum.toml")))
        player.begin()
        before = player.game()
        shutil.move(self.feed, self.feed + "-gone")
        self.assertEqual(player.follow(status=2)["code"], "not-in-feed")
        self.assertEqual(player.game(), before)
        self.assertEqual(player.run("check").returncode, 0)
        done = self.world.run("follow", self.feed + "-gone")
        self.assertIn("a pack of your own", done.stderr)
        self.world.want("tides", "2.0")
        self.assertEqual(self.publish(status=2)["code"], "cannot-publish")

    def test_a_feed_says_nothing_of_the_players_machine(self) -> None:
        text = accepted_text(
            '[pack]\nname = "x"\nsources = ["/"]\ncatalogs = ["/etc"]\n'
            '[game]\nsheet = "g"\nfolder = "/home"\n[game.places]\nsettings = "/home/you/.ssh"\n'
            '[limits]\nratio = 9\n[share]\nallow = ["x"]\n'
            '[[graft]]\nname = "g"\ndonor = "/home/you"\ntake = "**"\nslot = "@game/x/"\n'
            '[want]\ntides = "1"\n'
        )
        for word in ("/etc", "/home", "limits", "share", "sources", "places"):
            self.assertNotIn(word, text)
        self.assertIn('tides = "1"', text)
        self.assertIn("feed/catalog", text)


def following(shelf: str) -> list[str]:
    return [name for name in os.listdir(shelf) if name.startswith("following-")]
