"""Damaged journals, seed after seed: ``python -m tools.fuzz_journal SECONDS SEED``.

Every scenario of the interruption tests is killed at each of its steps, and one place of its journal is
damaged. Nothing may be acted on; then one command must bring the folder back, or name what it cannot, and
lose nothing.
"""

from __future__ import annotations

import sys
import time
import unittest

from tests.core.change.test_damaged_journal import DamagedJournalTest


def main() -> int:
    """Run for so many seconds from a first seed; return 1 if anything was lost or untrue."""
    seconds, seed = float(sys.argv[1]), int(sys.argv[2])
    end = time.monotonic() + seconds
    failed = 0
    DamagedJournalTest.every = 1
    while time.monotonic() < end:
        DamagedJournalTest.seed = seed
        test = DamagedJournalTest("test_a_bit_of_any_line_is_flipped")
        result = unittest.TextTestRunner(verbosity=0).run(test)
        failed += not result.wasSuccessful()
        print(
            f"seed {seed}: {DamagedJournalTest.points} journals so far, {failed} seeds failed",
            flush=True,
        )
        seed += 1
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
