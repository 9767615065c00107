"""Run all tests and end with one line that counts them: ``python -m tools.run_tests [PATTERN]``.

Warnings are errors, so that nothing deprecated and no file left open slips in.
"""

from __future__ import annotations

import sys
import unittest
import warnings


def main() -> int:
    """Run the tests whose file fits the pattern (all by default); 0 if none failed."""
    pattern = sys.argv[1] if len(sys.argv) > 1 else "test_*.py"
    warnings.simplefilter("error")
    suite = unittest.defaultTestLoader.discover("tests", pattern=pattern, top_level_dir=".")
    result = unittest.TextTestRunner(warnings="error", buffer=True).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped)
    sys.stderr.flush()
    print(f"{max(passed, 0)} passed, {failed} failed, {len(result.skipped)} skipped", flush=True)
    return 1 if failed or not result.testsRun else 0


if __name__ == "__main__":
    sys.exit(main())
