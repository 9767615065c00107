"""What the game is: one that has mods already, one half updated, damage, and files outside of it."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import unittest

from tests.support import VANILLA, WorldTest, write_tree

NEXT = {
    **VANILLA,
    "version.txt": b"version: 1.6.1\nedition: boxed\n",
    "data/sea.dat": b"a newer vanilla sea\n",
    "data/cables.dat": b"newer cables\n",
    "data/twin.dat": b"newer twin\n",
    "data/new.dat": b"new with 1.6.1\n",
}


class ModdedGameTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(self.world.path("game"), self.world.path("copy"))

    def run_it(self, *words: str, status: int = 0) -> str:
        result = self.world.run(*words)
        self.assertEqual(result.returncode, status, result.stdout + result.stderr)
        return " ".join((result.stdout + result.stderr).split())

    def know(self, *versions: tuple[str, dict[str, bytes]], more: str = "") -> None:
        """Put the known files of versions into the catalog."""
        tables = more
        for version, files in versions:
            lines = (f"{hashlib.sha256(text).hexdigest()}  {path}" for path, text in files.items())
            write_tree(self.world.path("catalog"), {f"sums/{version}": "\n".join(lines).encode()})
            tables += (
                f'\n[[baseline]]\nversion = "{version}"\nedition = "boxed"\n'
                f'expansions = ["ice-charts"]\nsha256 = "../sums/{version}"\n'
            )
        self.world.change_sheet(tables)

    def make_modded(self) -> None:
        """A game into which mods were put by hand, one over a vanilla file."""
        self.world.add_release(
            "tides", "1.0", {"a.dat": b"of tides"}, place='to = "@mods/"',
            says='obsolete = ["@mods/ancient/**"]',
        )  # fmt: skip
        write_tree(
            self.world.path("game"),
            {
                "data/sea.dat": b"an old mod's sea\n",
                "mods/a.dat": b"of tides",
                "mods/ancient/x.dat": b"x",
                "mods/who.dat": b"whose?",
            },
        )
        os.unlink(self.world.path("game", "data", "twin.dat"))

    def test_known_files_are_what_vanilla_is(self) -> None:
        self.make_modded()
        self.know(("1.6.0", VANILLA))
        self.run_it("take", "../downloads/tides-1.0.zip", status=2)  # no pack yet
        said = self.run_it("adopt", "../game", "--full")
        for words in ("data/sea.dat", "data/twin.dat", "mods/ancient/x.dat", "mods/who.dat"):
            self.assertIn(words, said)
        kinds = {str(each.path): each.cause for each in self.world.check().findings}
        self.assertEqual(kinds["@game/data/sea.dat"], "vanilla-changed")
        self.assertEqual(kinds["@game/data/twin.dat"], "vanilla-missing")
        self.assertIn("like left-overs of tides, as its card names them", said)
        self.assertEqual(kinds["@game/mods/ancient/x.dat"], "foreign-shared")
        self.assertEqual(kinds["@game/mods/who.dat"], "foreign-shared")
        self.run_it("sweep", "--yes")
        self.run_it("restore", "--damaged", "--from", "../copy", "--yes")
        self.assertIn("No drift", self.run_it("check", "--deep"))
        self.run_it("restore", "--all", "--yes")
        game = {path: each.content for path, each in self.world.game().items() if path in VANILLA}
        self.assertEqual(game, VANILLA)

    def test_it_can_be_taken_as_it_is(self) -> None:
        self.make_modded()
        self.know(("1.6.0", VANILLA))
        self.run_it("adopt", "../game", "--as-it-is")
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.run_it("adopt", "../game", "--anew")  # now against what is known
        self.assertNotEqual(self.world.check().findings, ())

    def test_what_cannot_be_known_is_said(self) -> None:
        self.make_modded()
        said = self.run_it("adopt", "../game", "--catalog", "../catalog")
        self.assertIn("mods", said)
        self.assertIn("--anew", said)
        self.assertIn("identify", said)

    def test_damage_is_no_update(self) -> None:
        self.know(("1.6.0", VANILLA), ("1.6.1", NEXT))
        self.run_it("adopt", "../game")
        for path in list(VANILLA)[1:]:
            self.world.write_game(path, b"junk of " + path.encode())
        causes = {each.cause for each in self.world.check().findings}
        self.assertEqual(causes, {"vanilla-changed"})
        said = self.run_it("apply", "--yes", status=2)
        self.assertNotIn("1.6.1", said)
        self.run_it("apply", "--take-update", "--yes", status=2)
        self.run_it("restore", "--damaged", "--from", "../copy", "--yes")
        self.assertIn("No drift", self.run_it("check", "--deep"))

    def test_half_an_update_is_neither(self) -> None:
        self.know(("1.6.0", VANILLA), ("1.6.1", NEXT))
        self.run_it("adopt", "../game")
        write_tree(self.world.path("game"), {n: NEXT[n] for n in ("data/sea.dat", "data/new.dat")})
        said = self.run_it("check", status=1)
        self.assertIn("2 of 5 files", said.replace("2 of the 5", "2 of 5"))
        self.assertIn("1.6.1", said)
        self.run_it("apply", "--yes", status=2)
        update = self.world.check().update
        self.assertEqual((update.version, update.waiting) if update else None, ("1.6.1", 3))
        write_tree(self.world.path("game"), NEXT)  # the store finishes
        self.assertIn("game updated", self.run_it("check", status=1))

    def test_same_size_and_time_is_never_an_update(self) -> None:
        self.know(("1.6.0", VANILLA), ("1.6.1", NEXT))
        self.run_it("adopt", "../game")
        path = self.world.path("game", "data", "cables.dat")
        status = os.stat(path)
        with open(path, "r+b") as file:
            file.write(b"V")
        os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
        (finding,) = self.world.check(deep=True).findings
        self.assertEqual(finding.cause, "vanilla-changed")

    def test_nobodys_new_files_of_an_update_are_left_alone(self) -> None:
        self.world.add_release("tides", "1.0", {"a.dat": b"a"}, place='to = "@mods/"')
        self.make_applied()
        write_tree(self.world.path("game"), {**NEXT, "data/more.dat": b"of the game?"})
        self.run_it("apply", "--yes")
        before = self.world.game()
        self.run_it("sweep", "--yes")
        self.assertEqual(self.world.game(), before)

    def test_a_stated_version_is_remembered(self) -> None:
        os.unlink(self.world.path("game", "version.txt"))
        sheet = self.world.path("catalog", "games", "fathomline.toml")
        with open(sheet, encoding="utf-8") as file:
            text = file.read().replace("@game/version.txt", "@game/data/sea.dat")
        head, _, tail = text.partition("[[version]]")
        text = head + tail.partition("[[edition]]")[1] + tail.partition("[[edition]]")[2]
        write_tree(self.world.path("catalog"), {"games/fathomline.toml": text.encode()})
        said = self.run_it("adopt", "../game", status=2)
        self.assertIn("--version", said)
        said = self.run_it("adopt", "../game", "--version", "1.6.0")
        self.assertIn("1.6.0", said)
        self.assertIn("stated", said)
        self.assertIn("No drift", self.run_it("check"))

    def test_a_sweep_forgets_nothing_of_the_folder(self) -> None:
        self.world.add_release(
            "tides", "1.0", {"a.dat": b"a", "b.dat": b"b"}, place='to = "@mods/"'
        )
        self.make_applied()
        self.world.write_game("mods/foreign.dat", b"f")
        self.run_it("sweep", "--yes")
        self.assertIn("No drift", self.run_it("check"))
        os.unlink(self.world.path("game", "mods", "b.dat"))
        self.world.write_game("mods/other.dat", b"o")
        kinds = {str(each.path): each.cause for each in self.world.check().findings}
        self.assertEqual(
            kinds,
            {"@game/mods/b.dat": "mod-missing", "@game/mods/other.dat": "foreign-shared"},
        )

    def test_foreign_files_in_folders_of_mods_outside(self) -> None:
        self.world.change_sheet(
            places='scripts = "{documents}/F/scripts"\nsettings = "{documents}/F"'
        )
        self.world.add_release(
            "tides", "1.0", {"t/a.lua": b"a"}, place='to = "@scripts/"\ntake = "**"'
        )
        write_tree(self.world.path("player"), {"scripts/my.lua": b"my own", "note.txt": b"n"})
        self.world.adopt()
        self.world.change_pack(
            '[game.places]\nscripts = "../player/scripts"\nsettings = "../player"\n'
        )
        self.world.take_all()
        self.world.want("tides")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(self.world.check().findings, ())  # a place as a whole is the user's
        write_tree(self.world.path("player"), {"scripts/t/t/a.lua": b"a", "letter.txt": b"x"})
        found = [(each.path, each.kind) for each in self.world.check().findings]
        self.assertEqual(found, [("@scripts/t/t/a.lua", "foreign")])

    def test_settings_of_the_whole_sheet_hold_for_vanilla_files(self) -> None:
        write_tree(self.world.path("game"), {"data/view.ini": b"[v]\nfog = on\n"})
        self.world.change_sheet('\n[settings]\n"@data/*.ini" = "merge"\n')
        self.run_it("adopt", "../game")
        self.world.write_game("data/view.ini", b"[v]\nfog = off\n")
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.run_it("restore", "--damaged", "--yes")
        content = self.world.game()["data/view.ini"].content
        self.assertEqual(content, b"[v]\nfog = off\n")

    def test_identify_names_what_is_beside_the_known_files(self) -> None:
        self.know(("1.6.0", VANILLA))
        write_tree(self.world.path("copy"), {"data/extra.dat": b"extra"})
        said = self.run_it("identify", "../copy", "--full", "--catalog", "../catalog", status=1)
        self.assertIn("data/extra.dat", said)
        document = json.loads(
            self.world.run("identify", "../copy", "--json", "--catalog", "../catalog").stdout
        )
        self.assertIn("data/extra.dat", json.dumps(document))

    def test_vanilla_is_the_baseline_of_the_version_that_is_there(self) -> None:
        """A mod that had the new version's file: what goes back is the new version, not the old."""
        self.know(("1.6.0", VANILLA), ("1.6.1", NEXT))
        self.world.add_release(
            "backport", "1.0", {"sea.dat": NEXT["data/sea.dat"]}, place='to = "@data/"'
        )
        self.make_applied()
        write_tree(self.world.path("game"), NEXT)
        self.run_it("apply", "--yes")
        self.run_it("restore", "--all", "--yes")
        game = {path: each.content for path, each in self.world.game().items() if path in NEXT}
        self.assertEqual(game, NEXT)
        said = self.run_it("identify", "../game", "--catalog", "../catalog")
        self.assertIn("1.6.1", said)
        self.assertNotIn("other content", said)

    @unittest.skipUnless(os.name == "posix", "other systems have other modes")
    def test_the_guard_reaches_outside_and_is_undone_like_any_change(self) -> None:
        self.world.change_sheet(
            places='store = "{documents}/store"', game='store-files = ["@store/*.list"]'
        )
        write_tree(self.world.path("player"), {"updates.list": b"u", "other.txt": b"o"})
        self.world.adopt()
        self.world.change_pack('[game.places]\nstore = "../player"\n')
        path = self.world.path("player", "updates.list")
        os.chmod(path, 0o664)
        self.assertIn("1 file read-only now", self.run_it("guard", "on"))
        self.assertEqual(os.stat(path).st_mode & 0o777, 0o444)
        self.assertIn("The guard holds", self.run_it("check"))
        self.assertEqual(os.stat(self.world.path("player", "other.txt")).st_mode & 0o200, 0o200)
        os.chmod(path, 0o644)
        self.assertIn("the guard does not hold", self.run_it("check", status=1))
        self.run_it("guard", "on")
        self.run_it("guard", "off")
        self.assertEqual(os.stat(path).st_mode & 0o777, 0o664)
        self.assertIn("nothing was guarded", self.run_it("guard", "off"))


if __name__ == "__main__":
    unittest.main()
