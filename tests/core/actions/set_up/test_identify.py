"""What a folder is by known files; whole games from parts; copies; and states that were lost."""

from __future__ import annotations

import os
import shutil
import unittest

from rellum.core.actions.mend.restore import restore_all
from rellum.core.actions.set_up.adopt import CannotAdopt, adopt
from rellum.core.actions.set_up.assemble import CannotAssemble, NotWhole, assemble
from rellum.core.actions.set_up.identify import (
    Identified,
    NotVanilla,
    identify_folder,
    write_baseline,
)
from rellum.core.actions.set_up.rebuild import NotDamaged, Rebuilt, rebuild
from rellum.core.change.journal_reading import JournalDamaged
from rellum.core.change.opening import GameGone
from rellum.core.change.request import Request
from rellum.core.folder.baselines import SumsFault, parse_sums, sums_text
from rellum.core.folder.detection import UnknownGame
from rellum.core.pack.copying import CannotCopy
from rellum.core.pack.lost_state import StateFault
from rellum.core.pack.marker import FolderOwned
from rellum.core.values.paths import PlacePath
from tests.support import (
    VANILLA,
    WorldTest,
    ignore_recovery,
    snapshot,
    without_marker,
    write_tree,
    zip_bytes,
)


class IdentifyTest(WorldTest):
    def identify(self, folder: str) -> Identified:
        return identify_folder(
            Request(pack_folder=self.world.path("pack")),
            folder,
            catalogs=(self.world.path("catalog"),),
        )

    def know(self) -> None:
        write_baseline(self.identify(self.world.path("game")))

    def test_what_is_no_folder_is_called_so(self) -> None:
        game = self.world.path("game")
        for odd, what in (("nowhere", "is not there"), ("data/sea.dat", "is a file")):
            with self.subTest(odd), self.assertRaisesRegex(UnknownGame, f"{odd} {what}$"):
                self.identify(os.path.join(game, odd))

    def test_a_folder_is_compared_with_what_is_known(self) -> None:
        game = self.world.path("game")
        self.assertEqual(self.identify(game).matches, ())
        self.know()
        found = self.identify(game).nearest
        assert found
        self.assertTrue(found.is_whole)
        self.assertEqual(found.matching, len(VANILLA))
        write_tree(game, {"data/sea.dat": b"other", "more.txt": b"more"})
        os.unlink(os.path.join(game, "data", "cables.dat"))
        other = self.identify(game).nearest
        assert other
        self.assertEqual(other.differing, ("@game/data/sea.dat",))
        self.assertEqual(other.missing, ("@game/data/cables.dat",))
        self.assertEqual(other.beside, ("@game/more.txt",))
        self.know()  # written again, the sheet names it once
        self.assertEqual(len(self.identify(game).matches), 1)
        self.world.adopt()
        with self.assertRaises(NotVanilla):
            write_baseline(self.identify(game))

    def test_sums_as_other_tools_write_them(self) -> None:
        odd = {PlacePath("@game/a b\\c\nd.txt"): "0" * 64, PlacePath("@game/é/x"): "1" * 64}
        text = sums_text(odd)
        self.assertTrue(text.startswith("\\" + "0" * 64 + "  a b\\\\c\\nd.txt\n"))
        write_tree(self.world.root, {"sums": b"2" * 64 + b" *./data/x.dat\r\n# a note\n\n"})
        path = self.world.path("sums")
        self.assertEqual(parse_sums(path), {"@game/data/x.dat": "2" * 64})
        for bad in (b"xyz  a", b"0" * 64 + b"  ../a", b"0" * 63 + b"  a", b"\xff" * 64):
            write_tree(self.world.root, {"sums": bad})
            with self.assertRaises(SumsFault):
                parse_sums(path)
        with self.assertRaises(SumsFault):
            parse_sums(self.world.path("nowhere"))


class AssembleTest(IdentifyTest):
    def build(self, *parts: str, move: bool = False, unchecked: bool = False) -> str:
        out = self.world.path("out")
        catalogs = (self.world.path("catalog"),)
        assemble(
            Request(pack_folder=self.world.path("pack")),
            out,
            parts,
            move=move,
            unchecked=unchecked,
            catalogs=catalogs,
        )
        return out

    def parts(self) -> tuple[str, str, str]:
        """A folder in a folder, an archive, and one file alone in a folder of the game."""
        write_tree(
            self.world.path("one"), {"in/version.txt": b"older", "in/data/sea.dat": b"older"}
        )
        rest = {n: c for n, c in VANILLA.items() if n not in ("data/cables.dat", "data/sea.dat")}
        write_tree(self.world.root, {"two.zip": zip_bytes({f"x/{n}": c for n, c in rest.items()})})
        three = {n: VANILLA[n] for n in ("data/cables.dat", "data/sea.dat")}
        write_tree(self.world.path("three"), three)
        return self.world.path("one"), self.world.path("two.zip"), self.world.path("three")

    def test_parts_make_a_known_game_whole(self) -> None:
        self.know()
        for move in (False, True):
            with self.subTest(move=move):
                parts = self.parts()
                out = self.build(*parts, move=move)
                content = {n: e.content for n, e in snapshot(out).items() if n[-1] != "/"}
                self.assertEqual(content, VANILLA)
                self.assertEqual(os.path.exists(os.path.join(parts[2], "data")), not move)
                shutil.rmtree(out)

    def test_what_is_missing_is_named_with_its_part_before_anything_is_written(self) -> None:
        with self.assertRaises(NotWhole):
            self.build(*self.parts())
        self.know()
        one, two, three = self.parts()
        os.unlink(os.path.join(three, "data", "cables.dat"))
        with self.assertRaises(NotWhole) as caught:
            self.build(one, two, three, move=True)
        self.assertIn("cables.dat is missing; ", caught.exception.details[0])
        self.assertTrue(os.path.exists(os.path.join(three, "data", "sea.dat")))
        self.assertFalse(os.path.exists(self.world.path("out")))
        self.build(one, two, three, unchecked=True)
        with self.assertRaises(CannotAssemble):
            self.build(one)
        with self.assertRaises(CannotAssemble):
            assemble(
                Request(pack_folder=self.world.path("pack")), self.world.path("one", "out"), [one]
            )

    def test_moving_goes_on_after_an_interruption(self) -> None:
        self.know()
        one, two, three = self.parts()
        write_tree(self.world.path("out.rellum-new"), {"data/sea.dat": VANILLA["data/sea.dat"]})
        os.unlink(os.path.join(three, "data", "sea.dat"))
        out = self.build(one, two, three, move=True)
        self.assertEqual(snapshot(out)["data/sea.dat"].content, VANILLA["data/sea.dat"])

    def test_a_copy_is_adopted_and_the_game_is_left_alone(self) -> None:
        game = self.world.path("game")
        os.symlink("version.txt", os.path.join(game, "link"))
        before = snapshot(game, times=True)
        pack, copy, shelf = (
            self.world.path("pack"),
            self.world.path("copy"),
            self.world.path("shelf"),
        )
        with self.assertRaises(CannotAdopt):
            adopt(
                Request(pack_folder=pack, shelf_folder=shelf),
                game,
                copy_to=os.path.join(game, "copy"),
            )
        write_tree(copy, {"x": b"x"})
        with self.assertRaises(CannotCopy):
            adopt(Request(pack_folder=pack, shelf_folder=shelf), game, copy_to=copy)
        os.unlink(os.path.join(copy, "x"))
        result = adopt(Request(pack_folder=pack, shelf_folder=shelf), game, copy_to=copy)
        self.assertEqual(result.game_folder, copy)
        self.assertEqual(snapshot(game, times=True), before)
        self.assertEqual(without_marker(snapshot(copy, times=True)), before)


class RebuildTest(WorldTest):
    def rebuild(self) -> Rebuilt:
        world = self.world
        return rebuild(
            Request(
                pack_folder=world.path("pack"),
                shelf_folder=world.path("shelf"),
                on_recovered=ignore_recovery,
            ),
            world.path("game"),
        )

    def test_a_lost_state_is_made_anew_from_what_else_is_there(self) -> None:
        self.world.add_release("tides", "1", {"data/sea.dat": b"tides", "mods/tides/a.dat": b"a"})
        vanilla = self.world.game()
        self.make_applied()
        self.world.write_game("data/sea.dat", b"by hand")
        self.world.apply()  # a copy of that is kept, which nothing will know of
        with self.assertRaises(NotDamaged):
            self.rebuild()
        state = self.world.path("pack", ".rellum", "state.db")
        with open(state, "r+b") as file:
            file.write(b"no database")
        with self.assertRaises(StateFault):
            self.world.check()
        result = self.rebuild()
        self.assertEqual((result.laid, result.unsure, result.rescued_files), (2, (), 1))
        self.assertTrue(os.path.exists(result.damaged))
        self.assertEqual(self.world.check(deep=True).findings, ())
        os.unlink(state)
        original = self.world.path("pack", ".rellum", "originals")
        shutil.rmtree(original)
        self.assertEqual(self.rebuild().unsure, ("@game/data/sea.dat",))
        write_tree(self.world.path("copy"), VANILLA)
        self.world.restore_all(source=self.world.path("copy"))
        self.assertEqual(self.world.game(), vanilla)

    def test_with_a_damaged_journal_one_command_follows_the_other(self) -> None:
        self.world.add_release("tides", "1", {"data/sea.dat": b"tides", "mods/tides/a.dat": b"a"})
        vanilla = self.world.game()
        self.make_applied()
        write_tree(self.world.path("pack", ".rellum"), {"journal": b"no journal"})
        os.unlink(self.world.path("pack", ".rellum", "state.db"))
        with self.assertRaises(JournalDamaged):
            self.rebuild()
        said = self.world.run("restore", "--interrupted", "--yes")
        self.assertNotIn("Traceback", said.stderr)
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.world.restore_all()
        self.assertEqual(self.world.game(), vanilla)

    def test_a_game_that_was_moved_is_found_by_its_marker(self) -> None:
        self.world.add_release("tides", "1", {"data/sea.dat": b"tides"})
        self.make_applied()
        os.rename(self.world.path("game"), self.world.path("elsewhere"))
        self.assertEqual(self.world.check().findings, ())
        with open(self.world.path("pack", "rellum.toml"), encoding="utf-8") as file:
            self.assertIn('folder = "../elsewhere"', file.read())
        shutil.rmtree(self.world.path("elsewhere"))
        with self.assertRaises(GameGone):
            self.world.check()

    def test_a_copy_of_a_pack_does_not_fight_over_the_game(self) -> None:
        self.world.add_release("tides", "1", {"data/sea.dat": b"tides"})
        self.make_applied()
        pack, other = self.world.path("pack"), self.world.path("other")
        shutil.copytree(pack, other)
        with self.assertRaisesRegex(FolderOwned, "of which this one is a copy"):
            restore_all(Request(pack_folder=other, on_recovered=ignore_recovery), lambda _: True)
        shutil.rmtree(pack)  # it was moved: the other is the only one
        restore_all(Request(pack_folder=other, on_recovered=ignore_recovery), lambda _: True)
        self.assertEqual(self.world.game()["data/sea.dat"].content, VANILLA["data/sea.dat"])


if __name__ == "__main__":
    unittest.main()
