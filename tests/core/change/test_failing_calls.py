"""Every call to the system that a change makes, failing once: afterwards before or after, no mix.

Beyond ``test_interruption``, whose steps are whole operations: here each single call fails, in the middle
of a copy, of a clean-up, of taking back, with each kind of failure in turn.
"""

from __future__ import annotations

import builtins
import errno
import os
import sys
import unittest
from collections.abc import Callable
from typing import Any
from unittest import mock

from rellum.core.actions.mend.restore import RestoreResult
from rellum.core.errors import RellumError
from rellum.core.pack.disk import Disk
from tests.core.change.test_interruption import OF_THE_PLAYERS, SCENARIOS, Stage, look_at_no_process
from tests.support import WorldTest, without_marker

CALLS = (
    "open", "link", "replace", "rename", "unlink", "mkdir", "rmdir", "chmod", "utime", "fsync",
    "sendfile", "copy_file_range", "read", "scandir",
)  # fmt: skip
FAILURES = (
    errno.ENOSPC, errno.EACCES, errno.EROFS, errno.EBUSY, errno.EIO, errno.ENOENT, errno.EMFILE,
)  # fmt: skip


class FailingCalls:
    """Lets one call to the system fail, among those on files below a folder; counts them all."""

    def __init__(self, root: str, at: int = -1, error: int = errno.EIO) -> None:
        self.root = root
        self.at = at
        self.error = error
        self.count = 0
        self._patches = [
            mock.patch.object(os, name, self._wrapped(getattr(os, name)))
            for name in CALLS
            if hasattr(os, name)
        ]
        self._patches.append(mock.patch.object(builtins, "open", self._wrapped(builtins.open)))

    def __enter__(self) -> FailingCalls:
        for patch in self._patches:
            patch.start()
        return self

    def __exit__(self, *_: object) -> None:
        for patch in self._patches:
            patch.stop()

    def _wrapped(self, call: Callable[..., Any]) -> Callable[..., Any]:
        def wrapper(*args: Any, **named: Any) -> Any:
            # A number is an open file; nearly all that are used here are files of the world.
            if args and (isinstance(args[0], int) or str(args[0]).startswith(self.root)):
                self.count += 1
                if self.count == self.at + 1:
                    self._fail(call, args, named)
            return call(*args, **named)

        return wrapper

    def _fail(self, call: Callable[..., Any], args: Any, named: Any) -> None:
        error = self.error
        if error == errno.ENOENT:
            if call.__name__ in ("open", "scandir", "read"):
                error = errno.EIO  # to look and find nothing is no failure
            elif call.__name__ in ("unlink", "rmdir"):
                call(*args, **named)  # something else was quicker
        raise OSError(error, os.strerror(error), str(args[0]))


class FailingCallsTest(WorldTest):
    points = 0

    @classmethod
    def tearDownClass(cls) -> None:
        print(f"\nfailed at {FailingCallsTest.points} calls", file=sys.__stderr__)

    def test_each_call_fails_once(self) -> None:
        for scenario in (*SCENARIOS, *OF_THE_PLAYERS):
            self.setUp()
            look_at_no_process(self)
            stage = Stage(self.world, scenario)
            self.addCleanup(stage.close)
            stage.reset()
            with FailingCalls(stage.world.root) as counting:
                stage.action(stage.world, Disk())
            every = 3 if scenario in OF_THE_PLAYERS else 1  # these make many, and most are alike
            for at in range(0, counting.count, every):
                stage.reset()
                FailingCallsTest.points += 1
                failure = FAILURES[at % len(FAILURES)]
                with self.subTest(scenario=scenario.__name__, at=at, failure=os.strerror(failure)):
                    self.fail_once(stage, at, failure)

    def fail_once(self, stage: Stage, at: int, failure: int) -> None:
        try:
            with FailingCalls(stage.world.root, at, failure):
                result = stage.action(stage.world, Disk())
            if isinstance(result, RestoreResult) and result.restoration.plan.left_alone:
                return  # what it could not find it has named, and mended the rest
        except RellumError as error:
            if error.exit_status == 2:
                self.assertEqual(without_marker(stage.world.game()), stage.before, error.code)
        except OSError:  # told by the edge as 'nothing was changed'
            self.assertEqual(without_marker(stage.world.game()), stage.before)
        stage.recover()
        tree = without_marker(stage.world.game())
        self.assertIn(tree, (stage.before, stage.after))
        self.assertFalse(os.path.exists(stage.world.path("pack", ".rellum", "journal")))
        if tree == stage.after:
            self.assertEqual(stage.world.check(deep=True).findings, ())
        stage.action(stage.world, Disk())
        self.assertEqual(without_marker(stage.world.game()), stage.after)


if __name__ == "__main__":
    unittest.main()
