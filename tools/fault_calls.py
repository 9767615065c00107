"""Calls to the system that fail, one after another: ``python -m tools.fault_calls [SCENARIO]``.

Every call that ``apply``, ``rewind`` and ``sweep`` make on the files of a small game and its pack, SQLite's
included, fails once (by strace); what the program says last must be so. Takes about a second for each call.
"""

from __future__ import annotations

import sys
import unittest

from tests.cli.test_faults import WORDS, Struck
from tests.core.change.test_interruption import Stage


class AllFaults(Struck):
    only = ""
    count = 0

    def test_each(self) -> None:
        for scenario, words in WORDS.items():
            if self.only and scenario.__name__ != self.only:
                continue
            self.setUp()
            stage = Stage(self.world, scenario)
            self.addCleanup(stage.close)
            for fault in list(self.faults(stage, words)):
                AllFaults.count += 1
                with self.subTest(scenario=scenario.__name__, fault=fault):
                    self.strike(stage, words, fault)


def main() -> int:
    """Run all; return 1 if something that was said was not so."""
    AllFaults.only = sys.argv[1] if len(sys.argv) > 1 else ""
    result = unittest.TextTestRunner(verbosity=0).run(AllFaults("test_each"))
    print(
        f"{AllFaults.count} calls failed, {len(result.failures) + len(result.errors)} false words"
    )
    return 0 if result.wasSuccessful() else 1


if __name__ == "__main__":
    sys.exit(main())
