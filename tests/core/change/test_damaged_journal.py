"""A damaged journal is never acted on; one command brings the folder to before, or names the rest."""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import sys
import unittest

from rellum.core.actions.mend.interrupted import MendResult, mend_interrupted
from rellum.core.change.journal_reading import JournalDamaged
from rellum.core.change.opening import open_pack
from rellum.core.change.readiness import CannotWrite
from rellum.core.change.request import Request
from rellum.core.folder.stamps import MARKER_NAME
from rellum.core.pack.disk import Disk
from tests.core.change.test_interruption import SCENARIOS, Stage, first_apply
from tests.support import Entry, WorldTest, ignore_recovery, snapshot, without_marker

Tree = dict[str, Entry]


@unittest.skipUnless(hasattr(os, "fork"), "needs fork")
class DamagedJournalTest(WorldTest):
    points = 0
    seed, every = 7, 4
    """At every so many steps; ``tools/fuzz_journal.py`` takes all of them, seed after seed."""

    @classmethod
    def tearDownClass(cls) -> None:
        print(f"\n{DamagedJournalTest.points} damaged journals", file=sys.stderr)

    def test_a_bit_of_any_line_is_flipped(self) -> None:
        """Killed at a step and damaged in one place; then nothing is lost, and what was said is so."""
        dice = random.Random(self.seed)
        for scenario in SCENARIOS:
            self.setUp()
            stage = Stage(self.world, scenario)
            self.addCleanup(stage.close)
            for step in range(dice.randrange(self.every), stage.steps, self.every):
                with self.subTest(scenario=scenario.__name__, step=step, of=stage.steps):
                    stage.reset()
                    self.assertEqual(stage.killed_at(step), 9)
                    if self.damage(stage, dice):
                        DamagedJournalTest.points += 1
                        self.assert_brought_back(stage)

    def test_it_is_cut_short_zeroed_or_gone_after_the_change_began(self) -> None:
        """Its second copy takes its place: the folder is as before or as after, and nothing is rescued."""
        dice = random.Random(self.seed)
        for scenario in SCENARIOS:
            self.setUp()
            stage = Stage(self.world, scenario)
            self.addCleanup(stage.close)
            copy = stage.world.path("game", ".rellum-staging", "journal")
            for step in range(dice.randrange(self.every), stage.steps, self.every):
                cut = dice.choice((1, 2, 3, 99, 0, -1))
                stage.reset()
                self.assertEqual(stage.killed_at(step), 9)
                journal = stage.world.path("pack", ".rellum", "journal")
                if not os.path.exists(copy) or not os.path.exists(journal):
                    continue
                DamagedJournalTest.points += 1
                with self.subTest(scenario=scenario.__name__, step=step, cut=cut):
                    cut_lines(journal, cut)
                    stage.recover()
                    folder = without_marker(stage.world.game())
                    self.assertIn(folder, (stage.before, stage.after))
                    names = os.listdir(stage.world.path("pack", ".rellum"))
                    self.assertEqual([n for n in names if n.startswith(("journal", "resc"))], [])
                    stage.world.restore_all()
                    for name, entry in stage.world.game().items():
                        if name in stage.vanilla:
                            self.assertEqual(entry.content, stage.vanilla[name], name)

    def test_a_copy_of_another_pack_is_not_acted_on(self) -> None:
        stage = Stage(self.world, first_apply)
        self.addCleanup(stage.close)
        stage.reset()
        stage.killed_at(stage.steps // 2)
        copy = stage.world.path("game", ".rellum-staging", "journal")
        self.assertTrue(os.path.exists(copy))
        shutil.rmtree(stage.world.path("pack"))
        os.makedirs(stage.world.path("pack"))
        with contextlib.suppress(FileNotFoundError):
            os.unlink(stage.world.path("game", MARKER_NAME))
        with self.assertRaisesRegex(CannotWrite, "rellum-staging is in the way"):
            stage.world.adopt()
        aside = stage.world.path("aside")
        os.rename(os.path.dirname(copy), aside)
        stage.world.adopt()
        os.rename(aside, os.path.dirname(copy))
        found = without_marker(stage.world.game())
        stage.recover()
        self.assertEqual(without_marker(stage.world.game()), found)

    def damage(self, stage: Stage, dice: random.Random) -> bool:
        """Damage the journal and its copy in one way or another; return whether there is one."""
        path = stage.world.path("pack", ".rellum", "journal")
        if not os.path.exists(path):
            return False
        with open(path, "rb") as file:
            content = bytearray(file.read())
        ends = content.find(b'"ready"')
        last = content.find(b"\n", ends) if ends >= 0 else len(content) - 1
        if dice.random() < 0.2:  # a block of zeros, as a disk may leave it
            start = dice.randrange(last)
            content[start : start + 512] = bytes(len(content[start : start + 512]))
        else:
            content[dice.randrange(last)] ^= 1 << dice.randrange(8)
        copy = stage.world.path("game", ".rellum-staging", "journal")
        for each in (path, copy) if os.path.exists(copy) else (path,):
            with open(each, "wb") as file:
                file.write(content)
        return True

    def assert_brought_back(self, stage: Stage) -> None:
        world = stage.world
        before_all = self.contents(stage)
        found = without_marker(world.game())
        with (
            self.assertRaises(JournalDamaged),
            open_pack(Request(pack_folder=world.path("pack"))),
        ):
            pass
        self.assertEqual(without_marker(world.game()), found)
        result = mend_interrupted(
            Request(
                pack_folder=world.path("pack"),
                shelf_folder=world.path("shelf"),
                on_recovered=ignore_recovery,
            ),
            lambda _: True,
        )
        assert result.mended
        if result.mended.is_done is not None:
            goal = stage.after if result.mended.is_done else stage.before
            self.assert_as_said(stage, goal, result)
        self.assertLessEqual(before_all, self.contents(stage), "a content is lost")
        stage.action(world, Disk())
        world.restore_all()
        for name, entry in world.game().items():
            if name in stage.vanilla and entry.content != stage.vanilla[name]:
                self.assertNotEqual(result.mended.lost, 0)
                rescued = snapshot(result.mended.rescued).values()
                self.assertIn(stage.vanilla[name], {each.content for each in rescued})

    def assert_as_said(self, stage: Stage, goal: Tree, result: MendResult) -> None:
        """What is not as it was before is named, or was wrong before already and is mended now."""
        assert result.mended
        named, mended = {*result.mended.left, *result.mended.unknown}, set()
        if result.repair:
            plan = result.repair.restoration.plan
            named |= {path for path, _ in plan.left_alone}
            mended = {each.path for each in plan.operations}
        told = {os.path.basename(path) for path in named | mended}
        tree = without_marker(stage.world.game())
        different = {
            os.path.basename(name)
            for name in tree.keys() | goal.keys()
            if not name.endswith("/") and tree.get(name) != goal.get(name)
        }
        if result.mended.lost == 0:
            self.assertLessEqual(different, told)

    def contents(self, stage: Stage) -> set[bytes]:
        """Return every content that the user or vanilla had, wherever it lies now."""
        had = {entry.content for entry in stage.before.values() if entry.content is not None}
        places = [stage.world.game()] + [
            snapshot(stage.world.path("pack", *name)) for name in ((".rellum",), ("swept",))
        ]
        there = {entry.content for place in places for entry in place.values()}
        return {each for each in had if each in there}


def cut_lines(path: str, count: int) -> None:
    """Cut a file's last lines off; 0: fill it with zeros; -1: remove it."""
    with open(path, "rb") as file:
        lines = file.read().splitlines(keepends=True)
    if count < 0:
        os.unlink(path)
        return
    with open(path, "wb") as file:
        file.write(b"".join(lines[: max(1, len(lines) - count)]) if count else bytes(500))


if __name__ == "__main__":
    unittest.main()
