"""All tests, by two processes, ending with one line that counts them: ``N passed, N failed, N skipped``.

Warnings are errors, so that nothing deprecated and no file left open slips in.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import unittest
import warnings
from collections.abc import Iterator

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
SLOWEST_FIRST = ("tests.core.change.test_interruption", "tests.core.change.test_failing_calls")
_COUNTED = re.compile(
    r"^(?P<passed>\d+) passed, (?P<failed>\d+) failed(, (?P<skipped>\d+) skipped)?$"
)


def run(modules: list[str]) -> int:
    """Run some test modules in this process; return 1 if one test failed."""
    warnings.simplefilter("error")
    suite = unittest.defaultTestLoader.loadTestsFromNames(modules)
    result = unittest.TextTestRunner(warnings="error", buffer=True).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    print(counts(result.testsRun - failed - len(result.skipped), failed, len(result.skipped)))
    return 1 if failed or not result.testsRun else 0


def counts(passed: int, failed: int, skipped: int) -> str:
    """Return the line that counts tests."""
    return f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else "")


def main() -> int:
    """Run the tests; return 1 if one failed. ``--part MODULE...`` runs just these, in this process."""
    sys.path.insert(0, ROOT)
    if sys.argv[1:2] == ["--part"]:
        return run(sys.argv[2:])
    modules = sorted(_modules(), key=lambda name: (name not in SLOWEST_FIRST, name))
    parts = [[each for each in modules if each in SLOWEST_FIRST]]
    parts.append([each for each in modules if each not in SLOWEST_FIRST])
    started = [_start(part) for part in parts]
    total = [0, 0, 0]
    for process in started:
        lines, _ = process.communicate()
        match = _COUNTED.match(lines.strip().rpartition("\n")[2])
        if match is None:  # it did not come to its end
            total[1] += 1
            continue
        for number, name in enumerate(("passed", "failed", "skipped")):
            total[number] += int(match[name] or 0)
    print(counts(*total))
    return 1 if total[1] else 0


def _start(modules: list[str]) -> subprocess.Popen[str]:
    words = [sys.executable, "-m", "tools.run_tests", "--part", *modules]
    return subprocess.Popen(words, cwd=ROOT, stdout=subprocess.PIPE, text=True)


def _modules() -> Iterator[str]:
    for folder, _, names in os.walk(os.path.join(ROOT, "tests")):
        for name in names:
            if name.startswith("test_") and name.endswith(".py"):
                path = os.path.relpath(os.path.join(folder, name), ROOT)
                yield path.removesuffix(".py").replace(os.sep, ".")


if __name__ == "__main__":
    sys.exit(main())
