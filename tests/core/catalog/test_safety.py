"""The catalog never takes safety away: faulty cards, none, and cards that ask for too much."""

from __future__ import annotations

import os
import unittest

from tests.support import VANILLA, WorldTest, write_tree, zip_bytes


class SafetyTest(WorldTest):
    def run_it(self, *words: str, status: int = 0, stdin: str | None = None) -> str:
        result = self.world.run(*words, stdin=stdin)
        self.assertEqual(result.returncode, status, result.stdout + result.stderr)
        self.assertNotIn("Traceback", result.stderr)
        return " ".join((result.stdout + result.stderr).split())

    def add_simple(self, *mods: str) -> None:
        for mod in mods:
            self.world.add_release(mod, "1.0", {f"{mod}.dat": mod.encode()}, place='to = "@mods/"')

    def game(self, name: str) -> bytes | None:
        entry = self.world.game().get(name)
        return entry.content if entry else None

    def test_a_faulty_card_stops_nobody_else(self) -> None:
        self.add_simple("tides", "swell")
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides")
        self.world.resolve()
        self.world.apply()
        write_tree(
            self.world.path("catalog", "cards"), {"swell.toml": b'[mod]\nid = "swell"\nstray = 1\n'}
        )
        self.world.write_game("mods/tides.dat", b"broken")
        self.world.write_game("mods/foreign.dat", b"f")
        for words, status in (
            (("check",), 1),
            (("restore", "--damaged", "--yes"), 0),
            (("sweep", "--yes"), 0),
            (("checkpoint", "x"), 0),
            (("restore", "--all", "--yes"), 0),
            (("rewind", "x", "--yes"), 0),
        ):
            self.assertNotIn("swell.toml", self.run_it(*words, status=status), words)
        for words in (("resolve",), ("preview",), ("apply", "--yes"), ("news",)):
            said = self.run_it(*words)
            self.assertEqual(said.count("rellum vet"), 1, said)
        self.assertIn("swell.toml:3", self.run_it("want", "swell", status=2))
        self.assertIn("swell.toml:3", self.run_it("vet", status=1))

    def test_rules_outlive_the_catalog(self) -> None:
        self.add_simple("tides")
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides")
        self.world.resolve()
        self.world.apply()
        self.world.write_game("logs/today.txt", b"log")
        for folder in ("cards", "games"):
            write_tree(self.world.path("catalog", folder), {f"{n}": b"= broken"
                       for n in os.listdir(self.world.path("catalog", folder))})  # fmt: skip
        self.assertIn("No drift", self.run_it("check"))
        self.run_it("sweep", "--yes")
        self.assertEqual(self.game("logs/today.txt"), b"log")
        self.world.write_game("mods/tides.dat", b"broken")
        self.run_it("restore", "--damaged", "--yes")
        self.assertEqual(self.game("mods/tides.dat"), b"tides")

    def test_a_catalog_without_cards_is_one(self) -> None:
        os.rmdir(self.world.path("catalog", "cards"))
        write_tree(self.world.path("downloads"), {"new.zip": zip_bytes({"Tides/a.dat": b"a"})})
        write_tree(self.world.path("donor"), {"sea.dat": b"another sea"})
        self.run_it("adopt", "../game", "--catalog", "../catalog")
        self.world.write_game("logs/today.txt", b"log")
        self.assertIn("No drift", self.run_it("check"))
        self.assertIn("unknown", self.run_it("take", "../downloads/new.zip"))
        self.assertIn("[mod]", self.run_it("describe", "../downloads/new.zip"))
        self.world.change_pack(
            '[[graft]]\nname = "old-sea"\nslot = "@data/sea.dat"\ndonor = "../donor"\ntake = "sea.dat"\n'
        )
        self.run_it("resolve")
        self.run_it("preview")
        self.run_it("apply", "--yes")
        self.assertEqual(self.game("data/sea.dat"), b"another sea")
        self.run_it("sweep", "--yes")
        self.assertEqual(self.game("logs/today.txt"), b"log")

    def test_what_is_stated_must_be_possible(self) -> None:
        self.add_simple("tides", "swell")
        self.world.adopt()
        said = self.run_it("take", "../downloads/tides-1.0.zip", "--as", "swell@1.0", status=2)
        self.assertIn("tides", said)
        self.world.cards["fog"] = (
            '[mod]\nid = "fog"\nname = "Fog"\n[[release]]\nversion = "1.0"\n[[release.file]]\n'
            'name = "fog.zip"\n[[release.place]]\ntake = "Fog/**"\nexpect = ["fog.dat"]\nto = "@mods/"\n'
        )
        write_tree(
            self.world.path("catalog", "cards"), {"fog.toml": self.world.cards["fog"].encode()}
        )
        write_tree(self.world.path("downloads"), {"other.zip": zip_bytes({"x/readme.txt": b"?"})})
        stated = ("take", "../downloads/other.zip", "--as", "fog@1.0", "--by", "move")
        self.assertIn("does not have the shape", self.run_it(*stated, status=2))
        self.assertNotIn("other.zip", self.run_it("shelf"))
        self.assertTrue(os.path.exists(self.world.path("downloads", "other.zip")))

    def test_what_is_carried_is_no_left_over(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"a.dat": b"a"}, place='to = "@mods/t/"',
            says='carry = ["@mods/t/mine/**"]\nobsolete = ["@mods/t/**/*.old"]\n'
            'check-by-hand = ["a graphics driver from 2023"]',
        )  # fmt: skip
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides")
        self.world.resolve()
        self.assertIn("a graphics driver from 2023", self.run_it("preview"))
        self.assertIn("a graphics driver from 2023", self.run_it("apply", "--yes"))
        write_tree(
            self.world.path("game"), {"mods/t/mine/x.old": b"my own", "mods/t/y.old": b"old"}
        )
        found = [each.path for each in self.world.check().findings]
        self.assertEqual(found, ["@game/mods/t/y.old"])
        self.run_it("apply", "--sweep", "--yes")
        self.run_it("sweep", "--yes")
        self.assertEqual(self.game("mods/t/mine/x.old"), b"my own")
        self.assertIsNone(self.game("mods/t/y.old"))

    def test_an_option_is_added_and_the_range_stays(self) -> None:
        self.add_simple("tides")
        options = '[[option]]\nid = "extra"\npick = "any"\n' + "".join(
            f'[[option.choice]]\nid = "{each}"\n' for each in ("foam", "gulls", "wind")
        )
        write_tree(
            self.world.path("catalog", "cards"),
            {"tides.toml": (self.world.cards["tides"] + options).encode()},
        )
        self.world.adopt()
        self.run_it("want", "tides", ">=0.5, <2")
        self.run_it("want", "tides", "--option", "extra=foam", "--option", "extra=gulls")
        with open(self.world.path("pack", "rellum.toml"), encoding="utf-8") as file:
            text = file.read()
        self.assertIn(">=0.5, <2", text)
        self.assertIn("foam", text)
        self.assertIn("gulls", text)

    def test_two_choices_that_bring_the_same_file(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"f/x.dat": b"f", "g/x.dat": b"g"},
            place='take = "f/**"\nto = "@mods/"\noptions = { extra = "foam" }\n[[release.place]]\n'
            'take = "g/**"\nto = "@mods/"\noptions = { extra = "gulls" }',
        )  # fmt: skip
        options = '[[option]]\nid = "extra"\npick = "any"\n' + "".join(
            f'[[option.choice]]\nid = "{each}"\n' for each in ("foam", "gulls")
        )
        write_tree(
            self.world.path("catalog", "cards"),
            {"tides.toml": (self.world.cards["tides"] + options).encode()},
        )
        self.world.adopt()
        self.world.take_all()
        self.run_it("want", "tides", "--option", "extra=foam", "--option", "extra=gulls")
        self.run_it("resolve")
        said = self.run_it("apply", "--yes", status=2)
        self.assertIn("foam and gulls of the option extra both bring mods/x.dat", said)

    def test_nothing_is_written_before_the_answer(self) -> None:
        def add(version: str, fog: str) -> None:
            self.world.add_release(
                "tides", version, {"t.ini": f"[a]\nfog = {fog}\n".encode()}, place='to = "@mods/"',
                says='[release.settings]\n"@mods/*.ini" = "merge"',
            )  # fmt: skip

        add("1.0", "on")
        self.make_applied()
        self.world.write_game("mods/t.ini", b"[a]\nfog = mine\n")
        add("2.0", "thick")
        self.world.take_all()
        self.world.resolve(fresh=True)
        with open(self.world.path("pack", "rellum.toml"), "rb") as file:
            before = file.read()
        self.run_it("apply", status=2)
        with open(self.world.path("pack", "rellum.toml"), "rb") as file:
            self.assertEqual(file.read(), before)

    def test_wrappers_are_seen_through_where_they_mirror_the_game(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"Tides v1/data/sea.dat": b"t", "Tides v1/read.txt": b"r"}
        )
        self.make_resolved()
        self.assertIn("one level deeper, in Tides v1/", self.run_it("preview"))
        self.world.apply()
        self.assertEqual(self.game("data/sea.dat"), b"t")
        self.assertIsNone(self.game("Tides v1/data/sea.dat"))

    def test_a_folder_in_one_of_its_own_name_is_asked_about(self) -> None:
        self.world.add_release("same", "1.0", {"Same/a.dat": b"s"}, place='to = "@mods/same/"')
        self.world.add_release(
            "meant", "1.0", {"meant/a.dat": b"m"}, place='to = "@mods/meant/"\nexpect = ["meant/"]'
        )
        self.make_resolved()
        before = self.world.game()
        self.assertIn("(open: 'apply' asks", self.run_it("preview"))
        said = self.run_it("apply", "--yes", status=2)
        self.assertIn("rellum decide nested mods/same once", said)
        self.assertEqual(self.world.game(), before)
        pack = self.world.path("pack", "rellum.toml")
        for word, path in (("once", "mods/same/a.dat"), ("twice", "mods/same/Same/a.dat")):
            with open(pack, encoding="utf-8") as file:
                text = file.read().partition("[nested]")[0]
            with open(pack, "w", encoding="utf-8") as file:
                file.write(f'{text}\n[nested]\n"@mods/same/" = "{word}"\n')
            self.world.apply()
            laid = {each for each in self.world.game() if each.startswith("mods/same/")}
            self.assertIn(path, laid)
            self.assertEqual(len([each for each in laid if not each.endswith("/")]), 1)
        self.assertIsNotNone(self.game("mods/meant/meant/a.dat"))

    def test_grafts_that_cannot_be(self) -> None:
        write_tree(self.world.path("donor"), {"sea.dat": b"another sea", "more.dat": b"m"})
        self.world.adopt()
        graft = '[[graft]]\nname = "{}"\nslot = "@data/sea.dat"\ndonor = "../donor"\ntake = "{}"\n'
        pack = self.world.path("pack", "rellum.toml")
        with open(pack, encoding="utf-8") as file:
            plain = file.read()
        for more, words in (
            (
                graft.format("a", "sea.dat") + graft.format("b", "more.dat"),
                "is the slot of the graft a",
            ),
            (graft.format("a", "**"), "the slot is one file, and the graft takes 2 files"),
            (graft.format("a", "sea.dat") + 'rename = { "no.dat" = "x.dat" }\n', "fits 'no.dat'"),
        ):
            with open(pack, "w", encoding="utf-8") as file:
                file.write(plain + more)
            self.run_it("resolve")
            self.assertIn(words, self.run_it("apply", "--yes", status=2))
        with open(pack, "w", encoding="utf-8") as file:
            file.write(plain + graft.format("a", "sea.dat"))
        self.run_it("resolve")
        self.run_it("apply", "--yes")
        os.rename(self.world.path("donor"), self.world.path("elsewhere"))
        self.assertIn("Nothing to do", self.run_it("apply", "--yes"))  # it lies there already
        self.run_it("restore", "--all", "--yes")
        self.assertEqual(self.game("data/sea.dat"), VANILLA["data/sea.dat"])

    def test_news_names_others_only_where_they_must_move(self) -> None:
        for version in ("1.0", "2.0"):
            self.world.add_release("tides", version, {"t": version.encode()}, place='to = "@mods/"')
            self.world.add_release("swell", version, {"s": version.encode()}, place='to = "@mods/"')
        self.world.adopt()
        self.world.take_all()
        self.world.want("tides", "1.0")
        self.world.want("swell", "1.0")
        self.world.resolve()
        self.world.want("tides")
        self.world.want("swell")
        said = self.run_it("news")
        self.assertIn("tides", said)
        self.assertNotIn("with others", said)


if __name__ == "__main__":
    unittest.main()
