"""Variants against a model: each has its own mods, settings and, where the sheet says, saves."""

from __future__ import annotations

import json
import os
import random

from rellum.core.actions.change.switch_variant import use_variant
from rellum.core.change.request import Request
from rellum.core.hashing import hash_bytes, hash_file
from tests.support import World, WorldTest, without_marker, write_tree


def make_world(world: World, *, own_saves: bool) -> None:
    places = 'settings = "{documents}/F"\nsaves = "@game/saves"'
    world.change_sheet(
        '\n[settings]\n"@settings/*.ini" = "merge"\n',
        places=places,
        game="saves-per-variant = true" if own_saves else "",
    )
    write_tree(world.path("player"), {"view.ini": b"far = 1\n"})
    write_tree(world.path("game"), {"saves/first.sav": b"first"})
    for mod in ("tides", "winds", "boats"):
        members = {"game/data/sea.dat": mod.encode(), "set/shared.ini": b"a = 1\nb = 1\n"}
        members[f"game/mods/{mod}/x.dat"] = mod.encode()
        place = (
            'take = "game/**"\nto = "@game/"\n[[release.place]]\ntake = "set/**"\nto = "@settings/"'
        )
        world.add_release(mod, "1.0", members, place=place)
    world.adopt()
    world.change_pack('[game.places]\nsettings = "../player"\n')
    world.take_all()


class VariantTest(WorldTest):
    def say(self, *words: str, status: int = 0) -> str:
        done = self.world.run(*words)
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        return done.stdout if "--json" in words else done.stdout + done.stderr

    def read(self, folder: str) -> dict[str, bytes]:
        found = {}
        for inside, _, names in os.walk(self.world.path(folder)):
            for name in names:
                path = os.path.join(inside, name)
                with open(path, "rb") as file:
                    found[os.path.relpath(path, self.world.path(folder))] = file.read()
        return found

    def laid(self) -> set[str]:
        folder = self.world.path("game", "mods")
        return set(os.listdir(folder)) if os.path.isdir(folder) else set()

    def test_what_lies_in_the_store_is_laid_from_there_and_where_damaged_from_the_archive(
        self,
    ) -> None:
        make_world(self.world, own_saves=False)
        self.world.want("tides")
        self.say("apply", "--yes")
        laid = self.world.path("game", "mods", "tides", "x.dat")
        for is_damaged in (False, True):
            self.say("variant", "use", "vanilla", "--yes")
            kept = self.world.path("pack", ".rellum", "originals", hash_bytes(b"tides"))
            if is_damaged:
                with open(kept, "wb") as file:
                    file.write(b"other")
            self.say("variant", "use", "main", "--yes")
            with open(laid, "rb") as file:
                self.assertEqual(file.read(), b"tides")
            with open(self.world.path("game", "data", "sea.dat"), "rb") as file:
                self.assertEqual(file.read(), b"tides")
            if not is_damaged:
                self.assertFalse(os.path.exists(kept), "nothing needs it there any more")
                inodes = {
                    os.stat(each).st_ino
                    for each in (laid, self.world.path("game", "data", "sea.dat"))
                }
                self.assertEqual(len(inodes), 2, "two files never become two names of one")
        self.say("check", "--deep")

    def test_random_evenings(self) -> None:
        for seed in range(6):
            self.setUp()
            with self.subTest(seed=seed):
                self.evening(random.Random(seed), own_saves=seed % 2 == 0)

    def evening(self, dice: random.Random, *, own_saves: bool) -> None:
        make_world(self.world, own_saves=own_saves)
        vanilla = without_marker(self.world.game())
        mods: dict[str, set[str]] = {"main": set(), "vanilla": set()}
        settings: dict[str, dict[str, bytes]] = {}
        saves: dict[str, dict[str, bytes]] = {}
        now = "main"
        for step in range(14):
            act = dice.choice(("use", "use", "mods", "play", "new", "rewind"))
            if act == "new" and len(mods) < 4:
                name = f"v{step}"
                self.say("variant", "new", name)
                mods[name] = set(mods[now])
            elif act == "mods" and now != "vanilla":
                mod = dice.choice(("tides", "winds", "boats"))
                if mod in mods[now]:
                    self.world.drop(mod)
                else:
                    self.world.want(mod)
                mods[now] ^= {mod}
                if mods[now]:
                    self.say("apply", "--yes")
                else:
                    self.world.want(mod)
                    mods[now] = {mod}
                    self.say("apply", "--yes")
            elif act == "play":
                write_tree(self.world.path("player"), {"view.ini": f"far = {step}\n".encode()})
                write_tree(self.world.path("game"), {f"saves/{now}-{step}.sav": dice.randbytes(5)})
            elif act == "use" and (others := [each for each in mods if each != now]):
                other = dice.choice(others)
                if other != "vanilla" and not mods[other]:
                    continue
                settings[now] = {"view.ini": self.read("player")["view.ini"]}
                saves[now] = self.read("game/saves")
                self.say("variant", "use", other, "--yes")
                was, now = now, other
                came = settings.get(now, settings[was])
                self.assertEqual(self.read("player")["view.ini"], came["view.ini"])
                kept = saves.get(now, saves[was]) if own_saves else saves[was]
                self.assertEqual(self.read("game/saves"), kept)
            self.assertEqual(self.laid(), mods[now])
            self.assertEqual(json.loads(self.say("check", "--json"))["findings"], [])
        listed = json.loads(self.say("variant", "--json"))["variants"]
        self.assertEqual({each["name"] for each in listed}, set(mods))
        self.assertEqual([each["name"] for each in listed if each["in_use"]], [now])
        self.say("restore", "--all", "--yes")
        after = without_marker(self.world.game())
        for name, entry in vanilla.items():
            if not name.startswith(("saves/", "outside/")):
                self.assertEqual(after[name].content, entry.content, name)

    def test_settings_that_a_mod_merges_are_each_variants_own(self) -> None:
        make_world(self.world, own_saves=False)
        self.world.want("tides")
        self.say("apply", "--yes")
        write_tree(self.world.path("player"), {"shared.ini": b"a = 1\nb = 7\n"})
        self.say("variant", "new", "second")
        self.say("variant", "use", "second", "--yes")
        self.assertEqual(self.read("player")["shared.ini"], b"a = 1\nb = 7\n")
        write_tree(self.world.path("player"), {"shared.ini": b"a = 2\nb = 7\n"})
        self.say("variant", "use", "vanilla", "--yes")
        self.assertNotIn("shared.ini", self.read("player"))
        self.say("variant", "use", "main", "--yes")
        self.assertEqual(self.read("player")["shared.ini"], b"a = 1\nb = 7\n")
        self.say("variant", "use", "second", "--yes")
        self.assertEqual(self.read("player")["shared.ini"], b"a = 2\nb = 7\n")
        self.assertIn("No drift", self.say("check"))

    def test_saves_made_elsewhere_are_named(self) -> None:
        make_world(self.world, own_saves=False)
        self.world.want("tides")
        self.say("apply", "--yes")
        self.say("variant", "use", "vanilla", "--yes")
        write_tree(self.world.path("game"), {"saves/bare.sav": b"bare"})
        told = self.say("variant", "use", "main", "--yes")
        self.assertIn("(1 under vanilla) stay: saves/bare.sav", " ".join(told.split()))

    def test_drift_is_decided_first(self) -> None:
        make_world(self.world, own_saves=False)
        self.world.want("tides")
        self.say("apply", "--yes")
        self.world.write_game("data/cables.dat", b"by hand")
        told = self.say("variant", "use", "vanilla", "--yes", status=2)
        self.assertIn("changed: data/cables.dat", told)
        self.assertEqual(self.laid(), {"tides"})
        self.say("variant", "use", "vanilla", "--yes", "--with-drift")
        self.assertEqual(self.read("game")["data/cables.dat"], b"by hand")

    def test_a_variant_without_mods_comes_back(self) -> None:
        make_world(self.world, own_saves=False)
        self.say("variant", "use", "vanilla", "--yes")
        self.say("variant", "use", "main", "--yes")
        self.assertEqual(self.laid(), set())
        self.world.want("tides")
        self.say("apply", "--yes")
        self.assertEqual(self.laid(), {"tides"})

    def test_a_vanilla_file_that_is_kept_nowhere_is_named(self) -> None:
        make_world(self.world, own_saves=False)
        self.world.write_game("data/cables.dat", b"by hand")
        self.say("absorb", "--as", "mine", "--yes")
        self.say("apply", "--yes")
        told = self.say("variant", "use", "vanilla", "--yes")
        self.assertIn("data/cables.dat is not as it should be: ", told)

    def test_going_back_over_a_switch(self) -> None:
        make_world(self.world, own_saves=False)
        self.world.want("tides")
        self.say("apply", "--yes")
        self.say("variant", "new", "second")
        self.say("variant", "use", "second", "--yes")
        self.world.want("winds")
        self.say("apply", "--yes")
        self.say("rewind", "1", "--yes")
        names = {each["name"] for each in json.loads(self.say("variant", "--json"))["variants"]}
        self.assertEqual(names, {"main", "second", "vanilla"})
        self.say("rewind", "--yes")
        self.say("variant", "use", "main", "--yes")
        self.say("variant", "use", "second", "--yes")
        self.assertEqual(self.laid(), {"tides", "winds"})

    def test_bad_calls(self) -> None:
        make_world(self.world, own_saves=False)
        for words in (
            ("use", "nowhere"),
            ("new", "Bad Name"),
            ("new", "vanilla"),
            ("new", "main"),
            ("new", "x", "--like", "nowhere"),
            ("drop", "main", "--yes"),
            ("drop", "vanilla", "--yes"),
            ("rename", "vanilla", "other"),
            ("use",),
            ("second",),
            ("list", "--like", "main"),
        ):
            with self.subTest(words):
                self.say("variant", *words, status=2)
        self.say("variant", "use", "vanilla", "--yes")
        self.assertIn("vanilla has no mods", self.say("want", "tides", status=2))

    def test_archives_of_a_waiting_variant_stay_on_the_shelf(self) -> None:
        make_world(self.world, own_saves=False)
        self.world.want("tides")
        self.say("apply", "--yes")
        self.say("variant", "use", "vanilla", "--yes")
        self.say("shelf", "trim", "--yes")
        self.say("variant", "use", "main", "--yes")
        self.assertEqual(self.laid(), {"tides"})

    def test_a_pack_that_never_resolved_keeps_its_archives(self) -> None:
        make_world(self.world, own_saves=False)
        self.world.want("tides")
        self.say("apply", "--yes")
        self.say("shelf", "trim", "--yes")
        archive = hash_file(self.world.path("downloads", "tides-1.0.zip"))
        self.assertTrue(os.path.exists(self.world.path("shelf", "archives", archive[:2], archive))
                        or archive in str(list(os.walk(self.world.path("shelf")))))  # fmt: skip
        self.say("restore", "--all", "--yes")
        self.say("apply", "--yes")
        self.assertEqual(self.laid(), {"tides"})

    def test_a_place_inside_the_other_variants_place_is_refused(self) -> None:
        make_world(self.world, own_saves=False)
        self.world.want("tides")
        self.say("apply", "--yes")
        self.say("variant", "new", "second")
        file = self.world.path("pack", "variants", "second.toml")
        with open(file, encoding="utf-8") as stream:
            text = stream.read().replace('"../player"', '"../player/inner"')
        with open(file, "w", encoding="utf-8") as stream:
            stream.write(text)
        self.assertNotEqual(self.world.run("variant", "use", "second", "--yes").returncode, 0)
        self.assertEqual(self.laid(), {"tides"})

    def test_a_variant_in_a_folder_of_its_own(self) -> None:
        make_world(self.world, own_saves=False)
        vanilla = self.read("game")
        self.world.want("tides")
        self.say("apply", "--yes")
        copy = self.world.path("copy")
        self.say("variant", "new", "second", "--folder", copy)
        for name, content in vanilla.items():
            if not name.startswith("saves/") and name != ".rellum-owner.toml":
                self.assertEqual(self.read("copy")[name], content, name)
        for inside, _, names in os.walk(copy):
            for name in names:
                self.assertEqual(os.lstat(os.path.join(inside, name)).st_nlink, 1)
        pack = self.world.path("pack", "variants", "second")
        self.say("apply", "--yes", "--pack", pack)
        self.say("check", "--pack", pack)
        self.assertEqual(self.read("copy")["data/sea.dat"], b"tides")
        self.say("want", "winds", "--pack", pack)
        self.say("apply", "--yes", "--pack", pack)
        self.assertEqual(self.laid(), {"tides"})
        self.assertIn("own folder", self.say("variant"))
        self.say("variant", "use", "second", "--yes", status=2)
        self.say("variant", "new", "second", "--folder", copy + "2", status=2)
        self.say("variant", "new", "third", "--folder", copy, status=2)
        self.say("variant", "new", "third", "--folder", self.world.path("game", "in"), status=2)
        self.assertFalse(os.path.exists(self.world.path("pack", "variants", "third")))

    def test_the_games_own_profiles(self) -> None:
        order = 'file = "@settings/order.txt"\nform = "lines"\nentries = ["@mods/*"]\n'
        self.world.change_sheet(
            f'\n[load-order]\n{order}profiles = "@settings/profiles/"\n',
            places='settings = "{documents}/F"',
        )
        write_tree(
            self.world.path("player"), {"profiles/alice/order.txt": b"", "profiles/bob/x": b""}
        )
        for mod in ("tides", "winds"):
            self.world.add_release(mod, "1.0", {f"mods/{mod}/x.dat": b"x"})
        self.world.adopt()
        self.world.change_pack('[game.places]\nsettings = "../player"\n')
        self.world.take_all()
        self.world.want("tides")
        self.world.want("winds")
        self.assertIn("there are alice, bob", self.say("apply", "--yes", status=2))
        pack = self.world.path("pack", "rellum.toml")
        with open(pack, encoding="utf-8") as file:
            text = file.read()
        write_tree(self.world.path("pack"), {
            "rellum.toml": text.replace("[game]\n", '[game]\nprofile = "alice"\n').encode()
        })  # fmt: skip
        self.say("apply", "--yes")
        self.assertEqual(
            self.read("player")["profiles/alice/order.txt"].split(), [b"tides", b"winds"]
        )
        write_tree(self.world.path("player"), {"profiles/bob/order.txt": b"winds\ntides\n"})
        self.world.drop("winds")
        self.assertIn("the profile bob still names winds", self.say("apply", "--yes"))
        self.say("variant", "new", "second")
        file_of_second = self.world.path("pack", "variants", "second.toml")
        with open(file_of_second, encoding="utf-8") as file:
            text = file.read().replace('"alice"', '"carol"')
        write_tree(self.world.path("pack", "variants"), {"second.toml": text.encode()})
        self.say("variant", "use", "second", "--yes")
        self.assertEqual(self.read("player")["profiles/carol/order.txt"].split(), [b"tides"])
        self.say("variant", "use", "main", "--yes")
        self.assertEqual(self.read("player")["profiles/alice/order.txt"].split(), [b"tides"])
        self.assertIn("No drift", self.say("check"))

    def test_compare(self) -> None:
        make_world(self.world, own_saves=False)
        self.world.want("tides")
        self.say("apply", "--yes")
        self.say("variant", "new", "second")
        self.say("variant", "use", "second", "--yes")
        self.world.want("winds")
        self.say("apply", "--yes")
        found = json.loads(self.say("variant", "compare", "main", "second", "--files", "--json"))
        self.assertEqual(found["releases"], [{"mod": "winds", "first": None, "second": "1.0"}])
        files = {each["path"]: each["difference"] for each in found["files"]}
        self.assertEqual(files["@game/mods/winds/x.dat"], "only in the second")
        self.assertEqual(files["@game/data/sea.dat"], "another content")

    def test_a_switch_is_one_change_even_in_the_core(self) -> None:
        make_world(self.world, own_saves=True)
        self.world.want("tides")
        self.world.apply()
        request = Request(
            pack_folder=self.world.path("pack"), shelf_folder=self.world.path("shelf")
        )
        said = use_variant(request, "vanilla", lambda _: False)
        self.assertFalse(said.done)
        self.assertEqual(self.laid(), {"tides"})
