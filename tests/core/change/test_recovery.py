"""What recovery must never do: write through a link, let go of a content that is nowhere else, or give up."""

from __future__ import annotations

import contextlib
import os
import shutil
import unittest

from rellum.core.change.execute import StillBroken
from rellum.core.folder.stamps import STAGING_NAME
from tests.core.change.test_interruption import (
    Action,
    Stage,
    first_apply,
    of_every_kind,
    restored,
    update,
)
from tests.support import World, WorldTest, snapshot, without_marker, write_tree


@unittest.skipUnless(hasattr(os, "fork"), "needs fork")
class RecoveryTest(WorldTest):
    def stage(self, scenario) -> Stage:
        stage = Stage(self.world, scenario)
        self.addCleanup(stage.close)
        stage.reset()
        return stage

    def kill_while_renaming(self, stage: Stage, share: float) -> None:
        self.assertEqual(stage.killed_at(int(stage.steps * share)), 9)
        self.assertTrue(os.path.exists(stage.world.path("pack", ".rellum", "journal")))

    def test_nothing_is_written_through_a_link(self) -> None:
        refused = 0
        for scenario in (first_apply, update, restored):
            for share in (0.5, 0.6, 0.7, 0.8):
                self.setUp()
                stage = self.stage(scenario)
                self.kill_while_renaming(stage, share)
                data, away = stage.world.path("game", "data"), stage.world.path("away")
                os.rename(data, away)
                os.symlink(away, data)
                before = snapshot(away, times=True)
                try:
                    stage.recover()  # in some of them there is nothing to do in that folder
                except StillBroken as error:
                    self.assertEqual(error.exit_status, 4)
                    refused += 1
                self.assertEqual(snapshot(away, times=True), before)
                os.unlink(data)
                os.rename(away, data)
                stage.recover()
                self.assertIn(without_marker(stage.world.game()), (stage.before, stage.after))
        self.assertGreater(refused, 3)

    def test_nothing_staged_is_taken_through_a_link(self) -> None:
        stage = self.stage(first_apply)
        self.kill_while_renaming(stage, 0.6)
        staging, away = stage.world.path("game", STAGING_NAME), stage.world.path("away")
        os.rename(staging, away)
        os.symlink(away, staging)
        before = snapshot(away)
        self.assertTrue(before)
        with self.assertRaises(StillBroken):
            stage.recover()
        self.assertEqual(snapshot(away), before)
        os.unlink(staging)
        os.rename(away, staging)
        stage.recover()
        self.assertIn(without_marker(stage.world.game()), (stage.before, stage.after))

    def test_no_folder_is_made_through_a_link(self) -> None:
        def deep(world: World) -> Action:
            world.add_release("deep", "1", {"data/new/deep/a.dat": b"a"})
            return first_apply(world)

        stage = self.stage(deep)
        stage.world.want("deep")
        stage.world.resolve()
        refused = 0
        shutil.rmtree(stage.saved)
        shutil.copytree(stage.world.root, stage.saved)
        data, away = stage.world.path("game", "data"), stage.world.path("away")
        for step in range(stage.steps):
            stage.reset()
            stage.killed_at(step)
            os.rename(data, away)
            os.symlink(away, data)
            before = snapshot(away)
            with contextlib.suppress(StillBroken):
                stage.recover()
                refused -= 1
            refused += 1
            self.assertEqual(snapshot(away), before, step)
        self.assertGreater(refused, 0)

    def test_a_file_that_somebody_changed_costs_no_original(self) -> None:
        """Taken back, with a file changed since: it stays, and what stood there before is still to be had."""
        stage = self.stage(first_apply)
        self.kill_while_renaming(stage, 0.75)
        with open(stage.world.path("pack", ".rellum", "journal"), "r+b") as file:
            content = file.read()
            file.seek(len(content) - 64)
            file.write(b"undo\n")
        write_tree(stage.world.path("game"), {"data/sea.dat": b"written since"})
        stage.recover()
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"written since")
        kept = snapshot(stage.world.path("pack", ".rellum")).values()
        self.assertIn(b"vanilla sea\n", {entry.content for entry in kept})

    def test_a_journal_that_was_cut_short_later_costs_no_original(self) -> None:
        """A disk that lost the journal's end: it looks torn, and the renames were done all the same."""
        stage = self.stage(first_apply)
        self.kill_while_renaming(stage, 0.75)
        journal = stage.world.path("pack", ".rellum", "journal")
        with open(journal, "rb") as file:
            lines = file.read().splitlines(keepends=True)
        for count in range(1, len(lines) - 2):
            copy = stage.world.root + "-copy"
            shutil.copytree(stage.world.root, copy, symlinks=True)
            with open(journal, "wb") as file:
                file.write(b"".join(lines[:count]))
            stage.recover()
            there = [self.world.game(), snapshot(stage.world.path("pack", ".rellum"))]
            contents = {entry.content for tree in there for entry in tree.values()}
            lost = {e.content for e in stage.before.values() if e.content} - contents
            self.assertEqual(lost, set(), count)
            shutil.rmtree(stage.world.root)
            os.rename(copy, stage.world.root)

    def test_the_next_command_knows_the_places_that_the_change_brought(self) -> None:
        stage = self.stage(of_every_kind)
        for share in (0.6, 0.75, 0.9):
            stage.reset()
            self.kill_while_renaming(stage, share)
            said = stage.world.run("check", "--json")
            self.assertNotIn("Traceback", said.stderr)
            self.assertIn(said.returncode, (0, 1), said.stderr)
            self.assertEqual(without_marker(stage.world.game()), stage.after)


if __name__ == "__main__":
    unittest.main()
