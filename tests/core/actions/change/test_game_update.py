"""The game updates itself: the pack moves along, or the old files come back; and each can be undone."""

from __future__ import annotations

import hashlib
import os
import shutil
import unittest

from rellum.core.actions.change.apply import apply, preview
from rellum.core.actions.mend.repair import restore_damaged
from rellum.core.actions.mend.rewind import NeedsOldGame
from rellum.core.actions.mend.sweep import sweep
from rellum.core.change.request import Request
from rellum.core.errors import NoAnswer
from rellum.core.pack.home import PackHome
from rellum.core.pack.open_state import open_state
from tests.support import VANILLA, WorldTest, ignore_recovery, without_marker, write_tree

DAMAGED = {"vanilla-changed", "vanilla-missing"}
NEW = {
    **{path: content for path, content in VANILLA.items() if path != "data/twin.dat"},
    "version.txt": b"version: 1.6.1\nedition: boxed\n",
    "data/sea.dat": b"a newer vanilla sea\n",
    "data/cables.dat": b"newer cables\n",
    "maps/reef/new.map": b"a new map",
}


class BoughtExpansionTest(WorldTest):
    def test_it_is_told_as_what_it_is(self) -> None:
        os.unlink(self.world.path("game", "expansions", "ice.dat"))
        self.world.add_release("tides", "1", {"mods/tides/a.dat": b"a"})
        self.make_applied()
        self.world.write_game("expansions/ice.dat", b"ice")
        said = self.world.run("check").stdout
        self.assertIn("it calls itself 1.6.0 with ice-charts now; 1 file differs", said)
        self.assertNotIn("puts the old files back", said)
        done = self.world.run("apply", "--yes")
        words = "The game was 1.6.0 without expansions and is 1.6.0 with ice-charts now"
        self.assertIn(words, done.stdout)
        self.assertNotIn("left by the update", done.stderr)
        self.assertEqual(self.world.run("check").returncode, 0)


class GameUpdateTest(WorldTest):
    def make_world(self, *, game: str = "*") -> None:
        self.world.add_release(
            "tides",
            "1",
            {"data/sea.dat": b"tides", "mods/tides/a.dat": b"a", "data/deep.dat": b"deep"},
            says=f'game = "{game}"',
        )
        shutil.copytree(self.world.path("game"), self.world.path("copy"))
        self.make_applied()
        self.before = self.world.game()

    def update_game(self) -> None:
        """As a store does: its own files over whatever stands there, and away with old ones."""
        os.unlink(self.world.path("game", "data", "twin.dat"))
        changed = {path: c for path, c in NEW.items() if VANILLA.get(path) != c}
        write_tree(self.world.path("game"), changed)
        write_tree(self.world.path("game"), {"mods/mine.txt": b"mine"})
        self.updated = self.world.game()

    def know_baseline(self, form: str = "sha256") -> None:
        lines = (f"{hashlib.sha256(content).hexdigest()}  {path}" for path, content in NEW.items())
        write_tree(self.world.path("catalog"), {"sums/1.6.1": "\n".join(lines).encode()})
        self.world.change_sheet(
            '\n[[baseline]]\nversion = "1.6.1"\nedition = "boxed"\nexpansions = ["ice-charts"]\n'
            f'{form} = "../sums/1.6.1"\n'
        )

    def state_version(self) -> str:
        state = open_state(PackHome(self.world.path("pack")))
        self.addCleanup(state.close)
        return state.identity().version.text

    def vanilla(self) -> dict[str, bytes | None]:
        tree = without_marker(self.world.game())
        return {n: entry.content for n, entry in tree.items() if not n.endswith("/")}

    def test_the_pack_moves_to_the_new_version(self) -> None:
        for knows in (False, True):
            with self.subTest(knows=knows):
                self.setUp()
                self.make_world()
                if knows:
                    self.know_baseline()
                self.update_game()
                drift = self.world.check()
                assert drift.update
                self.assertEqual(drift.update.version, "1.6.1")
                self.assertEqual(drift.update.by, "baseline" if knows else "version")
                causes = {str(each.path): each.cause for each in drift.findings}
                self.assertEqual(causes["@game/mods/mine.txt"], "foreign-shared")
                self.assertEqual(causes["@game/data/cables.dat"], "game-update")
                planned = preview(
                    Request(
                        pack_folder=self.world.path("pack"),
                        shelf_folder=self.world.path("shelf"),
                        on_recovered=ignore_recovery,
                    )
                )
                assert planned.rebase
                self.assertEqual(self.state_version(), "1.6.0")  # a preview changes nothing
                self.assertEqual(planned.rebase.new, ("@game/maps/reef/new.map",))
                self.assertEqual(planned.rebase.gone, ("@game/data/twin.dat",))
                self.assertEqual(
                    [str(row.owner) for row in planned.rebase.overwritten], ["tides 1"]
                )
                self.world.apply()
                self.assertEqual(self.state_version(), "1.6.1")
                with open(self.world.path("pack", "rellum.toml"), encoding="utf-8") as file:
                    self.assertIn('version = "1.6.1"', file.read())
                self.assertEqual(self.world.game()["data/sea.dat"].content, b"tides")
                [mine] = self.world.check(deep=True).findings
                self.assertEqual(mine.path, "@game/mods/mine.txt")
                self.world.restore_all()
                self.assertEqual(self.vanilla(), {**NEW, "mods/mine.txt": b"mine"})

    def test_going_back_over_the_update_needs_the_old_files(self) -> None:
        self.make_world()
        self.update_game()
        self.world.apply()
        with self.assertRaises(NeedsOldGame):
            self.world.rewind()
        self.world.rewind(source=self.world.path("copy"))
        os.unlink(self.world.path("game", "mods", "mine.txt"))
        self.assertEqual(self.state_version(), "1.6.0")
        self.assertEqual(self.world.game(), self.before)
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.world.restore_all()
        self.assertEqual(self.vanilla(), VANILLA)

    def test_the_update_is_refused(self) -> None:
        self.make_world()
        self.update_game()
        pack, shelf = self.world.path("pack"), self.world.path("shelf")
        copy = self.world.path("copy")
        restore_damaged(
            Request(pack_folder=pack, shelf_folder=shelf, on_recovered=ignore_recovery),
            lambda _: True,
            source=copy,
        )
        sweep(Request(pack_folder=pack, on_recovered=ignore_recovery), (), lambda _: True)
        self.assertEqual(self.world.game(), self.before)
        self.assertEqual(self.world.check(deep=True).findings, ())

    def test_a_folder_that_is_lost_is_no_part_of_the_update(self) -> None:
        """What the new version is known to have stays vanilla, and missing."""
        self.make_world()
        self.know_baseline()
        self.update_game()
        shutil.rmtree(self.world.path("game", "data"))
        self.world.apply()
        missing = {each.path for each in self.world.check().findings if each.kind == "missing"}
        self.assertEqual(missing, {"@game/data/cables.dat"})

    def test_an_update_that_keeps_its_version_is_taken_when_told_so(self) -> None:
        self.make_world()
        self.world.write_game("data/cables.dat", b"newer cables")
        os.unlink(
            self.world.path("game", "expansions", "ice.dat")
        )  # by which the expansion is known
        pack, shelf = self.world.path("pack"), self.world.path("shelf")
        self.assertIsNone(
            preview(
                Request(pack_folder=pack, shelf_folder=shelf, on_recovered=ignore_recovery)
            ).rebase
        )
        self.assertEqual({each.cause for each in self.world.check().findings}, DAMAGED)
        apply(
            Request(pack_folder=pack, shelf_folder=shelf, on_recovered=ignore_recovery),
            lambda _: True,
            take_update=True,
        )
        self.assertEqual(self.world.check(deep=True).findings, ())
        state = open_state(PackHome(pack))
        self.addCleanup(state.close)
        self.assertEqual(state.identity().expansions, ())
        self.world.restore_all()
        self.assertEqual(self.vanilla()["data/cables.dat"], b"newer cables")
        self.assertNotIn("expansions/ice.dat", self.vanilla())

    def test_a_mod_over_the_file_that_tells_the_version_is_no_update(self) -> None:
        other = b"version: 9.9\nedition: boxed\n"
        self.world.add_release("tides", "1", {"version.txt": other})
        self.make_applied()
        self.assertEqual(self.world.check().findings, ())
        self.assertIsNone(
            preview(
                Request(
                    pack_folder=self.world.path("pack"),
                    shelf_folder=self.world.path("shelf"),
                    on_recovered=ignore_recovery,
                )
            ).rebase
        )

    def test_what_breaks_is_said_and_nothing_is_changed(self) -> None:
        self.make_world(game="<1.6.1")
        self.update_game()
        with self.assertRaisesRegex(NoAnswer, "no line-up") as caught:
            self.world.apply()
        self.assertIn("restore --damaged --from", caught.exception.hint)
        self.assertEqual(self.world.game(), self.updated)
        self.assertEqual(self.state_version(), "1.6.0")

    def test_what_lies_under_a_mod_and_is_of_the_old_version_is_named(self) -> None:
        self.make_world()
        self.know_baseline()
        self.update_game()
        write_tree(self.world.path("game"), {"data/sea.dat": b"tides"})  # the update left it
        planned = preview(
            Request(
                pack_folder=self.world.path("pack"),
                shelf_folder=self.world.path("shelf"),
                on_recovered=ignore_recovery,
            )
        )
        assert planned.rebase
        self.assertEqual(planned.rebase.lacking, ("@game/data/sea.dat",))


if __name__ == "__main__":
    unittest.main()
