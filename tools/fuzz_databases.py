"""Flip bits in the databases of packs and shelves: ``python -m tools.fuzz_databases SECONDS SEED``.

No command may go by what a damaged one says, nothing may be lost, and one command makes it anew.
"""

from __future__ import annotations

import sys
import time
import unittest

from tests.core.test_database import FlippedBitsTest


def main() -> int:
    """Run for so many seconds from a first seed; return 1 if a bit was not noticed, or something lost."""
    seconds, seed = float(sys.argv[1]), int(sys.argv[2])
    end = time.monotonic() + seconds
    failed = bits = 0
    FlippedBitsTest.places = 100
    while time.monotonic() < end:
        FlippedBitsTest.seed = seed
        suite = unittest.defaultTestLoader.loadTestsFromTestCase(FlippedBitsTest)
        failed += not unittest.TextTestRunner(verbosity=0).run(suite).wasSuccessful()
        bits += FlippedBitsTest.places * suite.countTestCases()
        seed += 1
        print(f"seed {seed - 1}: {bits} bits so far, {failed} seeds failed", flush=True)
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
