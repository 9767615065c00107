"""What a backup leaves out: a folder that may not be read, and none that only failed to answer."""

from __future__ import annotations

import errno
import os
import unittest
from collections.abc import Iterator
from unittest import mock

from rellum.core.actions.live.backup import make_backup
from rellum.core.change import backing_up
from rellum.core.folder.entries import entries_in
from tests.core.change.test_interruption import with_players_files
from tests.support import WorldTest


class OutOfReachTest(WorldTest):
    def test_a_folder_that_fails_to_answer_is_not_left_out(self) -> None:
        request = with_players_files(self.world)
        for failure in (errno.EIO, errno.EMFILE, errno.EBUSY):
            with self.failing(failure), self.assertRaises(OSError) as raised:
                make_backup(request, f"failed-{failure}")
            self.assertEqual(raised.exception.filename, self.world.path("game", "saves", "a"))
        for failure in (errno.EACCES, errno.ENOENT):
            with self.failing(failure):
                make_backup(request, f"made-{failure}")

    def failing(self, failure: int):
        """Let one folder of saved games fail to be listed."""

        def listed(folder: str) -> Iterator[tuple[str, os.stat_result]]:
            if folder.endswith(os.path.join("saves", "a")):
                raise OSError(failure, os.strerror(failure), 5)  # it was listed by its number
            return entries_in(folder)

        return mock.patch.object(backing_up, "entries_in", listed)


if __name__ == "__main__":
    unittest.main()
