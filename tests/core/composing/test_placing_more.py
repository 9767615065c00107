"""What layers do beside bringing members: places outside the game, texts, copies, folders, removals."""

from __future__ import annotations

import io
import os
import unittest
import zipfile
from unittest import mock

from rellum.core.actions.mend.guard import guard
from rellum.core.change.request import Request
from rellum.core.errors import UserError
from rellum.core.pack.outside import NoPlace, folds_names
from tests.support import WorldTest, snapshot, without_marker, write_tree, zip_bytes

OUTSIDE = 'settings = "{documents}/Fathomline"'
"""A place of the sheet; the pack says where it really lies."""


class OutsideTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.change_sheet(places=OUTSIDE)
        self.world.add_release(
            "tides", "1.0", {"s/tides.ini": b"tide = 1\n", "s/deep/er.ini": b"x", "m/a.dat": b"a"},
            place='take = "s/**"\nto = "@settings/"\n[[release.place]]\ntake = "m/**"\nto = "@mods/t/"',
        )  # fmt: skip
        self.world.adopt()
        self.settings = self.world.path("player", "settings")
        self.world.change_pack('[game.places]\nsettings = "../player/settings"\n')
        self.world.take_all()
        self.world.want("tides")
        self.world.resolve()

    def test_there_and_back_where_there_was_no_folder(self) -> None:
        first = without_marker(self.world.game())
        self.world.apply()
        self.assertEqual(
            {path for path in snapshot(self.settings) if not path.endswith("/")},
            {"tides.ini", "deep/er.ini"},
        )
        self.assertEqual(self.world.check().findings, ())
        self.assertTrue(self.world.apply().preview.plan.is_empty)
        self.world.restore_all()
        self.assertFalse(os.path.exists(self.settings))
        self.assertEqual(without_marker(self.world.game()), first)

    def test_what_the_user_had_there_comes_back_and_the_rest_is_nobodys_business(self) -> None:
        theirs = {"tides.ini": b"tide = 9\n", "saves/one.sav": b"s", "deep/mine.ini": b"m"}
        write_tree(self.settings, theirs)
        before = snapshot(self.settings)
        self.world.apply()
        self.assertEqual(snapshot(self.settings)["tides.ini"].content, b"tide = 1\n")
        self.assertEqual(self.world.check().findings, ())
        os.unlink(os.path.join(self.settings, "tides.ini"))
        write_tree(self.settings, {"deep/er.ini": b"changed"})
        found = [(each.kind, each.path) for each in self.world.check().findings]
        self.assertEqual(
            found, [("changed", "@settings/deep/er.ini"), ("missing", "@settings/tides.ini")]
        )
        result = self.world.run("restore", "@settings/tides.ini", "--yes")
        self.assertEqual(result.returncode, 0, result.stderr)
        self.world.drop("tides")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(snapshot(self.settings), before)

    def test_a_place_that_moved_or_is_none_is_refused(self) -> None:
        pack = self.world.path("pack", "rellum.toml")
        with open(pack, encoding="utf-8") as file:
            text = file.read()
        for old, new, words in (
            ("settings = ", "saves = ", "rellum.toml:[0-9]+: @saves is no place outside"),
            ("../player/settings", "../game/data", "contain one another"),
            ("../player/settings", "../elsewhere", "where files of this pack lie"),
        ):
            if "of this pack" in words:
                with open(pack, "w", encoding="utf-8") as file:
                    file.write(text)
                self.world.apply()
            with open(pack, "w", encoding="utf-8") as file:
                file.write(text.replace(old, new))
            with self.assertRaisesRegex(NoPlace, words):
                self.world.apply()

    def test_a_place_that_this_system_does_not_have(self) -> None:
        self.world.change_sheet(places='settings = { windows = "{documents}/Fathomline" }')
        pack = self.world.path("pack", "rellum.toml")
        with open(pack, encoding="utf-8") as file:
            text = file.read()
        with open(pack, "w", encoding="utf-8") as file:
            file.write(text[: text.index("[game.places]")])
        with self.assertRaisesRegex(NoPlace, "does not say where @settings lies on this system"):
            self.world.apply()

    def test_a_place_is_a_folder_of_its_own(self) -> None:
        for said in ("{home}", "{home}/", "{home}/../x", "{desktop}/x", "{home}/{data}"):
            self.world.change_sheet(places=f'settings = "{said}"')
            result = self.world.run("vet")
            self.assertEqual(result.returncode, 1, said)
            self.assertIn("fathomline.toml:", result.stdout + result.stderr)

    def test_a_place_in_another_has_its_own_name(self) -> None:
        self.world.change_sheet(places=f'{OUTSIDE}\nsaves = "{{documents}}/Fathomline/deep"')
        with open(self.world.path("pack", "rellum.toml"), "a", encoding="utf-8") as file:
            file.write('saves = "../player/settings/deep"\n')
        with self.assertRaisesRegex(NoPlace, "must be written @saves/er.ini"):
            self.world.apply()


class PlacingMoreTest(WorldTest):
    def laid(self, place: str, *, vanilla: dict[str, bytes] | None = None) -> dict[str, bytes]:
        """Apply a mod with this place; return what is new or changed, without the marker."""
        write_tree(self.world.path("game"), vanilla or {})
        self.world.add_release("tides", "1.0", {"w/tides.dat": b"tide"}, place=place)
        before = self.world.game()
        self.make_applied()
        after = without_marker(self.world.game())
        self.assertEqual(self.world.check().findings, ())
        self.assertTrue(self.world.apply().preview.plan.is_empty)
        changed = {p: e.content or b"" for p, e in after.items() if before.get(p) != e}
        changed |= dict.fromkeys(before.keys() - after.keys(), b"gone")
        self.world.restore_all()
        self.assertEqual(self.world.game(), before)
        return changed

    def test_a_copy_a_text_and_a_folder(self) -> None:
        found = self.laid(
            """copy = "@data/sea.dat"
to = "@data/sea-before.dat"
[[release.place]]
folder = true
to = "@mods/tides/cache/"
[[release.place]]
to = "@mods/tides/about.ini"
text = '''
for = ${game.version} ${game.edition} of ${pack.name}
${if expansion.ice-charts = yes}
ice = on
${end}
${if game.edition != boxed}
edition = other
${end}
'''"""
        )
        about = b"for = 1.6.0 boxed of pack\nice = on\n"
        expected = {"data/sea-before.dat": b"vanilla sea\n", "mods/tides/about.ini": about}
        folders = {"mods/": b"", "mods/tides/": b"", "mods/tides/cache/": b""}
        self.assertEqual(found, expected | folders)

    def test_removals_of_vanilla_and_of_an_earlier_part(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"a.dat": b"a", "old/b.dat": b"b"}, place='to = "@mods/t/"'
        )
        says = 'patches = "1.0"\nremoves = ["@mods/t/old/**", "@data/t*.dat"]'
        self.world.add_release("tides", "1.1", {"c.dat": b"c"}, says=says, place='to = "@mods/t/"')
        first = self.world.game()
        self.make_applied()
        after = without_marker(self.world.game())
        self.assertEqual(
            sorted(after.keys() - first.keys()),
            ["mods/", "mods/t/", "mods/t/a.dat", "mods/t/c.dat"],
        )
        self.assertEqual(first.keys() - after.keys(), {"data/twin.dat"})
        self.assertEqual(self.world.check().findings, ())
        self.world.write_game("data/twin.dat", b"again")
        [finding] = self.world.check().findings
        self.assertEqual(finding.detail, "is back, although tides 1.1 removed it")
        self.world.apply()
        self.assertNotIn("data/twin.dat", self.world.game())
        self.world.restore_all()
        self.assertEqual(self.world.game(), first)

    def test_a_game_that_folds_case(self) -> None:
        self.world.change_sheet(game="folds-case = true")
        self.world.add_release("zz", "1.0", {"MODS/New/x.dat": b"z"}, place='to = "@game/"')
        found = self.laid(
            'take = "w/**"\nto = "@game/maps/NORTH/"', vanilla={"Maps/North/tides.DAT": b"vanilla"}
        )
        self.assertEqual(found["Maps/North/tides.DAT"], b"tide")
        self.assertNotIn("maps/", found)

    def test_patterns_and_copies_fold_case_with_the_game(self) -> None:
        self.world.change_sheet(game="folds-case = true")
        self.world.add_release(
            "zz", "1.0", {"x.ini": b"a = 1\n"},
            says='removes = ["@game/MAPS/*.old"]\ncarry = ["@mods/ZZ/*"]',
            place='to = "@mods/zz/"\n[[release.place]]\ncopy = "@game/maps/north.MAP"\nto = "@mods/n.map"',
        )  # fmt: skip
        vanilla = {"Maps/North.map": b"north", "Maps/Gone.OLD": b"gone", "Maps/stays.map": b"s"}
        found = self.laid('take = "w/**"\nto = "@mods/t/"', vanilla=vanilla)
        self.assertEqual(found["mods/n.map"], b"north")
        self.assertEqual(found["Maps/Gone.OLD"], b"gone")
        self.assertNotIn("Maps/stays.map", found)

    def test_every_pattern_of_the_sheet_folds_case_with_the_game(self) -> None:
        """Guarded files, files that the game rewrites, containers' drops, and the load-order file."""
        self.world.change_sheet(
            '[[container]]\nfile = "@game/data/*.pak"\ndrop = ["signs/*.sig"]\n'
            '[load-order]\nfile = "@game/order.txt"\nform = "lines"\nentries = ["@game/mods/*"]\n',
            game='folds-case = true\nstore-files = ["@game/store/*.list"]\n'
            'rewrites = ["@mods/*/cache.dat"]',
        )
        packed = zip_bytes({"a": b"a", "Signs/Old.SIG": b"s"})
        self.world.add_release("zz", "1.0", {"X/y": b"y", "Cache.DAT": b"c"},
            place='take = "X/**"\nto = "@game/Data/Core.PAK!/"\n'
            '[[release.place]]\ntake = "Cache.DAT"\nto = "@game/Mods/ZZ/"')  # fmt: skip
        vanilla = {"Data/Core.PAK": packed, "Store/New.LIST": b"n", "Mods/own.txt": b"o"}
        found = self.laid('take = "w/**"\nto = "@mods/t/"', vanilla=vanilla)
        self.assertIn("ZZ\n", found["order.txt"].decode())
        with zipfile.ZipFile(io.BytesIO(found["Data/Core.PAK"])) as pak:
            self.assertEqual(sorted(pak.namelist()), ["a", "y"])
        self.world.apply()
        pack = Request(pack_folder=self.world.path("pack"))
        self.assertEqual(guard(pack, True).files, ("@game/Store/New.LIST",))
        self.world.write_game("Mods/ZZ/Cache.DAT", b"rewritten")
        [finding] = [each for each in self.world.check().findings if each.path.endswith("DAT")]
        self.assertIn("the game rewrites it", finding.detail)

    def test_two_spellings_in_one_release_are_refused(self) -> None:
        self.world.change_sheet(game="folds-case = true")
        self.world.add_release("tides", "1.0", {"a/x.dat": b"1", "b/x.dat": b"2"},
                               place='to = "@game/"\nrename = { "b/x.dat" = "A/X.dat" }')  # fmt: skip
        with self.assertRaisesRegex(UserError, "both a/x.dat and A/X.dat"):
            self.make_applied()

    def test_names_that_differ_in_capitals_alone(self) -> None:
        self.world.add_release("tides", "1.0", {"a/x.dat": b"1", "a/X.dat": b"2"})
        with (
            mock.patch("rellum.core.pack.outside.folds_names", return_value=True),
            self.assertRaisesRegex(UserError, "a/x.dat and a/X.dat are one file to this system"),
        ):
            self.make_applied()
        if not folds_names(self.world.path("game")):
            self.world.apply()
            game = self.world.game()
            self.assertEqual((game["a/x.dat"].content, game["a/X.dat"].content), (b"1", b"2"))
        self.world.change_sheet(game="folds-case = true")
        with self.assertRaisesRegex(UserError, "both a/x.dat and a/X.dat, which are one file"):
            self.world.apply()

    def test_a_place_called_after_a_file_of_the_game(self) -> None:
        self.world.change_sheet('\n[names]\nworld = { of = "@game/worlds/*.world" }\n')
        found = self.laid(
            'take = "w/**"\nto = "@game/packs/${name.world}/"',
            vanilla={"worlds/big-sea.world": b"w"},
        )
        self.assertIn("packs/big-sea/tides.dat", found)

    def test_wrong_words_in_texts_and_places(self) -> None:
        for place, words in (
            ('to = "@mods/x"\ntext = "${game.versoin}"', r"toml:\d+: 'game.versoin' is no name"),
            ('to = "@mods/x"\ntext = "${if mod.id = b}"', "a condition has no"),
            ('to = "@mods/x"\ncopy = "@data/none.dat"', "no vanilla file data/none.dat"),
            ('to = "@mods/x"\ncopy = "@data/sea.dat"\nstrip = 1', "only for files from an archive"),
            ('to = "@mods/x"\ncopy = "@data/sea.dat"\ntext = "a"', "it is one of copy, text"),
        ):
            with self.subTest(place):
                self.world.cards.clear()
                self.world.add_release("tides", "1.0", {"a": b"a"}, place=place)
                result = self.world.run("adopt", "../game")
                with self.assertRaises(UserError) as caught:
                    self.world.take_all()
                    self.world.want("tides")
                    self.world.resolve()
                    self.world.apply()
                shown = " ".join((caught.exception.summary, *caught.exception.details))
                self.assertRegex(shown, words, result.stderr)


if __name__ == "__main__":
    unittest.main()
