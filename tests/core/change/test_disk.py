"""Read-only files are replaced where the system refuses that, and are read-only again where it fails."""

from __future__ import annotations

import os
import stat
import tempfile
import unittest
from unittest import mock

from rellum.core.pack.disk import Disk


def refusing(call):
    """Return a call that refuses read-only files, as Windows does."""

    def wrapper(*paths: str) -> None:
        target = paths[-1]
        if os.path.exists(target) and not os.stat(target).st_mode & stat.S_IWUSR:
            raise PermissionError(13, "read-only", target)
        call(*paths)

    return wrapper


class ReadOnlyTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.old, self.new = (os.path.join(folder.name, name) for name in ("old", "new"))
        for path in (self.old, self.new):
            with open(path, "w", encoding="utf-8") as file:
                file.write(path)
        os.chmod(self.old, 0o444)
        os.chmod(self.new, 0o444)
        for name in ("replace", "unlink"):
            self.enterContext(mock.patch.object(os, name, refusing(getattr(os, name))))

    def test_replaced_and_removed(self) -> None:
        Disk().move_over(self.new, self.old)
        with open(self.old, encoding="utf-8") as file:
            self.assertEqual(file.read(), self.new)
        self.assertEqual(stat.S_IMODE(os.stat(self.old).st_mode), 0o444)
        Disk().remove(self.old)
        self.assertFalse(os.path.exists(self.old))

    def test_a_failure_leaves_it_read_only(self) -> None:
        with self.assertRaises(OSError):
            Disk().move_over(self.new + "-not-there", self.old)
        self.assertEqual(stat.S_IMODE(os.stat(self.old).st_mode), 0o444)


if __name__ == "__main__":
    unittest.main()
