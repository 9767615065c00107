"""Two processes: none is left behind."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
import unittest

from rellum.core.workers import run_both

PARENT = """
import os, sys, time
from rellum.core.workers import run_both

def second():
    with open(sys.argv[1], "w") as file:
        file.write(str(os.getpid()))
    time.sleep(600)

run_both(lambda: time.sleep(600), second)
"""
PATIENCE = 60
"""Seconds until what should happen at once counts as not happening."""


@unittest.skipUnless(hasattr(os, "fork"), "no second process without fork")
class RunBothTest(unittest.TestCase):
    def test_the_second_process_ends_where_the_first_is_killed(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = os.path.join(folder, "number")
            with subprocess.Popen([sys.executable, "-c", PARENT, file]) as parent:
                self.wait_for(lambda: os.path.exists(file) and os.path.getsize(file) > 0)
                parent.kill()
            with open(file, encoding="ascii") as stream:
                child = int(stream.read())
            self.wait_for(lambda: not is_running(child))

    def test_the_second_process_ends_where_the_first_call_fails(self) -> None:
        def fail() -> None:
            raise ValueError

        began = time.monotonic()
        with self.assertRaises(ValueError):
            run_both(fail, lambda: time.sleep(2 * PATIENCE))
        self.assertLess(time.monotonic() - began, PATIENCE)

    def wait_for(self, condition) -> None:
        end = time.monotonic() + PATIENCE
        while not condition():
            self.assertLess(time.monotonic(), end, "it did not happen")
            time.sleep(0.02)


def is_running(process: int) -> bool:
    """Whether a process runs; one that only waits to be buried does not."""
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    try:
        with open(f"/proc/{process}/stat", encoding="ascii", errors="replace") as file:
            return file.read().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return True


if __name__ == "__main__":
    unittest.main()
