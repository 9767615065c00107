"""Every step at which a change can stop: killed, or failing. Afterwards: before or after, no mix."""

from __future__ import annotations

import errno
import os
import shutil
import sys
import unittest
from collections.abc import Callable, Sequence
from functools import partial
from unittest import mock

from rellum.core.actions.change.switch_variant import use_variant
from rellum.core.actions.live.backup import make_backup
from rellum.core.actions.live.bring_back import bring_back
from rellum.core.actions.mend.repair import restore_damaged
from rellum.core.actions.mend.sweep import sweep
from rellum.core.change import running
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.errors import RellumError
from rellum.core.pack.disk import Disk
from rellum.core.pack.home import PackHome, pack_texts
from tests.support import (
    Entry,
    World,
    WorldTest,
    ignore_recovery,
    without_marker,
    write_tree,
    zip_bytes,
)

Action = Callable[[World, Disk], object]


class CountingDisk(Disk):
    """Counts the steps, and does something at one of them."""

    def __init__(self, at: int = -1) -> None:
        self.at = at
        self.steps = 0

    def step(self, name: str) -> None:
        self.steps += 1
        if self.steps == self.at + 1:
            self.act(name)

    def act(self, name: str) -> None:
        pass


class KillingDisk(CountingDisk):
    """Ends the process before a step, as kill -9 or a power cut would."""

    def act(self, name: str) -> None:
        os._exit(9)


class FailingDisk(CountingDisk):
    """Lets one step fail."""

    error = errno.ENOSPC

    def act(self, name: str) -> None:
        raise OSError(self.error, os.strerror(self.error), name)


class BrokenDisk(CountingDisk):
    """Fails from one step on, clean-up and all, as a disk that was pulled out."""

    def step(self, name: str) -> None:
        self.steps += 1
        if self.steps > self.at >= 0:
            raise OSError(errno.EIO, os.strerror(errno.EIO), name)


def first_apply(world: World) -> Action:
    """Files over vanilla (two of one content), new files, new folders."""
    world.add_release(
        "tides",
        "1.0",
        {
            "data/sea.dat": b"tidal sea",
            "data/twin.dat": b"tidal twin",
            "mods/tides/a.dat": b"a",
            "mods/tides/deep/b.dat": b"b",
        },
    )
    world.adopt()
    world.take_all()
    world.want("tides")
    world.resolve()
    return lambda w, disk: w.apply(disk)


def update(world: World) -> Action:
    """One release in place of another: files come, change, stay and go, and a folder with them."""
    first_apply(world)
    world.apply()
    world.add_release(
        "tides",
        "2.0",
        {"data/sea.dat": b"newer sea", "mods/tides/a.dat": b"a", "mods/tides/c.dat": b"c"},
    )
    world.take_all()
    world.want("tides", ">=2")
    world.resolve()
    return lambda w, disk: w.apply(disk)


def dropped(world: World) -> Action:
    """The mod goes and the originals come back."""
    first_apply(world)
    world.apply()
    world.drop("tides")
    return lambda w, disk: w.apply(disk)


def restored(world: World) -> Action:
    """Everything goes back to vanilla, over files that the user changed and lost."""
    first_apply(world)
    world.apply()
    world.write_game("data/sea.dat", b"changed by hand")
    os.unlink(world.path("game", "mods", "tides", "a.dat"))
    return lambda w, disk: w.restore_all(disk)


def of_every_kind(world: World) -> Action:
    """Over the user's files elsewhere; vanilla taken away; a container; a text; an empty folder."""
    write_tree(world.path("game"), {"data/core.pak": zip_bytes({"a": b"a", "b": b"b"})})
    write_tree(world.path("player"), {"tides.ini": b"mine", "other.ini": b"other"})
    world.change_sheet(places='settings = "{documents}/F"\nnew = "{data}/F"')
    place = """to = "@settings/"
[[release.place]]
take = "more/**"
to = "@new/"
[[release.place]]
take = "more/**"
to = "@data/core.pak!/x/"
[[release.place]]
text = "${mod.id}"
to = "@mods/t.txt"
[[release.place]]
folder = true
to = "@mods/cache/"
"""
    members = {"tides.ini": b"tides", "more/x.dat": b"x"}
    world.add_release("tides", "1.0", members, says='removes = ["@data/twin.dat"]', place=place)
    world.adopt()
    world.change_pack('[game.places]\nsettings = "../player"\nnew = "../player/new/new"\n')
    world.take_all()
    world.want("tides")
    world.resolve()
    return lambda w, disk: w.apply(disk)


def of_every_kind_dropped(world: World) -> Action:
    """All of that goes again."""
    action = of_every_kind(world)
    world.apply()
    world.drop("tides")
    return action


def rewound(world: World) -> Action:
    """An update is undone: files come back that no archive is asked for, line-up and pack with them."""
    update(world)
    world.apply()
    world.write_game("mods/tides/c.dat", b"changed by hand")
    return lambda w, disk: w.rewind("2", disk=disk)


def swept(world: World) -> Action:
    """Foreign files and folders are moved out of the game."""
    first_apply(world)
    world.apply()
    write_tree(
        world.path("game"), {"mods/mine/a.txt": b"mine", "data/b.txt": b"mine", "c.txt": b"c"}
    )
    return lambda w, disk: sweep(
        Request(pack_folder=w.path("pack"), on_recovered=ignore_recovery, disk=disk),
        (),
        lambda _: True,
    )


def repaired(world: World) -> Action:
    """What is damaged comes back, from originals, the shelf and a clean copy."""
    shutil.copytree(world.path("game"), world.path("copy"))
    first_apply(world)
    world.apply()
    world.write_game("mods/tides/a.dat", b"changed by hand")
    world.write_game("data/cables.dat", b"changed by hand")
    os.unlink(world.path("game", "data", "sea.dat"))
    shelf, copy = world.path("shelf"), world.path("copy")
    return lambda w, disk: restore_damaged(
        Request(
            pack_folder=w.path("pack"), shelf_folder=shelf, on_recovered=ignore_recovery, disk=disk
        ),
        lambda _: True,
        source=copy,
    )


def game_updated(world: World) -> Action:
    """The pack moves to what the game has become: baseline, line-up and files at once."""
    update(world)
    world.apply()
    world.write_game("version.txt", b"version: 1.6.1\nedition: boxed\n")
    world.write_game("data/sea.dat", b"newer vanilla sea\n")
    world.write_game("new.dat", b"new in 1.6.1")
    return lambda w, disk: w.apply(disk)


def with_players_files(world: World) -> Request:
    """A mod with settings, saves and settings of the player's, and variants that have their own."""
    write_tree(world.path("player"), {"view.ini": b"far = 1\n", "deep/keys.ini": b"k = 1\n"})
    write_tree(world.path("game"), {"saves/old.sav": b"old", "saves/a/b.sav": b"b"})
    world.change_sheet(
        places='settings = "{documents}/F"\nsaves = "@game/saves"', game="saves-per-variant = true"
    )
    world.add_release("tides", "1.0", {"data/sea.dat": b"tidal sea", "mods/tides/a.dat": b"a"})
    world.adopt()
    world.change_pack('[game.places]\nsettings = "../player"\n')
    world.take_all()
    world.want("tides")
    world.resolve()
    world.apply()
    return Request(pack_folder=world.path("pack"), shelf_folder=world.path("shelf"))


def switched(world: World) -> Action:
    """Vanilla comes into use again, with the settings and saves that it had."""
    request = with_players_files(world)
    use_variant(request, "vanilla", lambda _: True)
    write_tree(world.path("player"), {"view.ini": b"far = 9\n", "new.ini": b"n\n"})
    write_tree(world.path("game"), {"saves/vanilla.sav": b"v", "saves/old.sav": b"older"})
    use_variant(request, "main", lambda _: True)
    write_tree(world.path("game"), {"saves/main/m.sav": b"m"})
    os.unlink(world.path("player", "deep", "keys.ini"))
    return lambda w, disk: use_variant(
        request._replace(on_recovered=ignore_recovery, disk=disk), "vanilla", lambda _: True
    )


def brought_back(world: World) -> Action:
    """A backup comes back: files change, come, and go."""
    request = with_players_files(world)
    make_backup(request, "good")
    write_tree(world.path("game"), {"saves/old.sav": b"spoilt", "saves/new.sav": b"new"})
    shutil.rmtree(world.path("game", "saves", "a"))
    return lambda w, disk: bring_back(
        request._replace(on_recovered=ignore_recovery, disk=disk),
        "good",
        (),
        lambda _: True,
        exactly=True,
    )


SCENARIOS = (
    first_apply,
    update,
    dropped,
    restored,
    rewound,
    swept,
    repaired,
    game_updated,
    of_every_kind,
    of_every_kind_dropped,
)
OF_THE_PLAYERS = (switched, brought_back)
"""Changes that bring the player's own files: their first interruption, not that of their recovery."""


class Stage:
    """A world that is put back as it was for each run; states hold absolute paths."""

    def __init__(self, world: World, scenario: Callable[[World], Action]) -> None:
        self.world = world
        self.action = scenario(world)
        self.saved = world.root + "-saved"
        newer = {"data/sea.dat": b"newer vanilla sea\n"}
        self.vanilla = VANILLA_NAMES | (newer if scenario is game_updated else {})
        self.before = without_marker(world.game())
        self.before_with_times = without_marker(world.game(times=True))
        self.texts_before = pack_texts(PackHome(world.path("pack")))
        shutil.copytree(world.root, self.saved)
        counting = CountingDisk()
        self.action(world, counting)
        self.steps = counting.steps
        self.after = without_marker(world.game())
        self.texts_after = pack_texts(PackHome(world.path("pack")))

    def reset(self) -> None:
        shutil.rmtree(self.world.root)
        shutil.copytree(self.saved, self.world.root)

    def close(self) -> None:
        shutil.rmtree(self.saved)

    def killed_at(self, step: int) -> int:
        """Run the action in a process of its own that is killed at a step; return its status."""
        return run_in_child(lambda: self.action(self.world, KillingDisk(step)))

    def recover(self, disk: Disk | None = None) -> None:
        with open_pack(Request(pack_folder=self.world.path("pack"), disk=disk)):
            pass


def run_in_child(work: Callable[[], object]) -> int:
    child = os.fork()
    if child == 0:
        try:
            work()
        except RellumError:
            os._exit(1)
        except BaseException as error:
            print(repr(error), file=sys.stderr)
            os._exit(1)
        os._exit(0)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


def look_at_no_process(test: WorldTest) -> None:
    """Pass over the system's list of processes, which is looked at for each of thousands of changes."""
    empty = test.world.path("no-processes")
    os.makedirs(empty)
    test.enterContext(mock.patch.object(running, "PROC", empty))


@unittest.skipUnless(hasattr(os, "fork"), "needs fork")
class InterruptionTest(WorldTest):
    points = 0

    def setUp(self) -> None:
        super().setUp()
        look_at_no_process(self)

    @classmethod
    def tearDownClass(cls) -> None:
        print(f"\nstopped or failed at {InterruptionTest.points} points", file=sys.stderr)

    def at_each_point(
        self, play: Callable[[Stage, int], None], more: Sequence[Callable[[World], Action]] = ()
    ) -> None:
        """Play every scenario once for each of its steps, and look whether all is whole then."""
        for scenario in (*SCENARIOS, *more):
            self.setUp()
            stage = Stage(self.world, scenario)
            self.addCleanup(stage.close)
            for step in range(stage.steps):
                stage.reset()
                InterruptionTest.points += 1
                with self.subTest(scenario=scenario.__name__, step=step, of=stage.steps):
                    play(stage, step)
                    self.assert_whole(stage, stage.before, stage.after)

    def assert_whole(self, stage: Stage, *allowed: dict[str, Entry]) -> None:
        """The folder is one of the states allowed, and the pack agrees with it."""
        tree = without_marker(stage.world.game())
        self.assertIn(tree, allowed)
        self.assertFalse(os.path.exists(stage.world.path("pack", ".rellum", "journal")))
        for folder, _, names in os.walk(stage.world.path("game")):
            for name in names:  # nothing in the game shares its bytes with the store, or another
                self.assertEqual(os.lstat(os.path.join(folder, name)).st_nlink, 1, name)
        texts = pack_texts(PackHome(stage.world.path("pack")))
        if stage.before != stage.after:  # rellum.toml and rellum.lock go with the files
            self.assertEqual(
                texts, stage.texts_before if tree == stage.before else stage.texts_after
            )
        if tree == stage.before:
            self.assertEqual(without_marker(stage.world.game(times=True)), stage.before_with_times)
        if tree == stage.after:
            self.assertEqual(stage.world.check(deep=True).findings, ())
        # What comes next works, and vanilla is still to be had.
        stage.action(stage.world, Disk())
        self.assertEqual(without_marker(stage.world.game()), stage.after)
        stage.world.restore_all()
        for name, entry in stage.world.game().items():
            if name in stage.vanilla:
                self.assertEqual(entry.content, stage.vanilla[name], name)

    def test_killed_at_every_step(self) -> None:
        def play(stage: Stage, step: int) -> None:
            self.assertEqual(stage.killed_at(step), 9)
            stage.recover()

        self.at_each_point(play, OF_THE_PLAYERS)

    def test_killed_again_at_every_step_of_the_recovery(self) -> None:
        def play(stage: Stage, step: int) -> None:
            self.assertEqual(stage.killed_at(step), 9)
            again = 0
            while run_in_child(partial(stage.recover, KillingDisk(again))) == 9:
                again += 1

        self.at_each_point(play)

    def test_failing_at_every_step_is_taken_back(self) -> None:
        def play(stage: Stage, step: int) -> None:
            try:
                stage.action(stage.world, FailingDisk(step))
            except RellumError as error:
                self.assertIn(error.code, ("rolled-back", "no-supply", "unsettled"))
                if error.exit_status != 4:  # else begun, and brought to an end below
                    self.assertEqual(without_marker(stage.world.game()), stage.before)
            stage.recover()

        self.at_each_point(play, OF_THE_PLAYERS)

    def test_killed_while_a_failure_is_taken_back(self) -> None:
        class FailThenKill(CountingDisk):
            def act(self, name: str) -> None:
                raise OSError(errno.EACCES, os.strerror(errno.EACCES), name)

            def step(self, name: str) -> None:
                if self.steps == self.at + 3:
                    os._exit(9)
                super().step(name)

        def play(stage: Stage, step: int) -> None:
            run_in_child(lambda: stage.action(stage.world, FailThenKill(step)))
            stage.recover()

        self.at_each_point(play)

    def test_failing_from_every_step_on_is_brought_to_an_end_later(self) -> None:
        def play(stage: Stage, step: int) -> None:
            try:
                stage.action(stage.world, BrokenDisk(step))
            except RellumError as error:
                self.assertIn(error.code, ("rolled-back", "still-broken", "no-supply", "unsettled"))
            stage.recover()

        self.at_each_point(play)


VANILLA_NAMES = {
    "data/sea.dat": b"vanilla sea\n",
    "data/twin.dat": b"vanilla sea\n",
    "data/cables.dat": b"vanilla cables\n" * 50,
}

if __name__ == "__main__":
    unittest.main()
