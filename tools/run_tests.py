"""All tests, by three processes, ending with one line that counts them: ``N passed, N failed, N skipped``.

Warnings are errors, so that nothing deprecated and no file left open slips in.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
import unittest
import warnings
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
SLOWEST_FIRST = (
    "tests.core.change.test_interruption",
    "tests.cli.test_faults",
    "tests.core.change.test_failing_calls",
    "tests.truth.test_truth",
    "tests.core.actions.share.test_follow",
    "tests.core.solving.test_reasons",
    "tests.core.solving.test_search",
    "tests.cli.test_killed_commands",
    "tests.core.change.test_damaged_journal",
    "tests.cli.test_story",
    "tests.cli.test_bad_input",
    "tests.core.fetching.test_hostile_servers",
    "tests.cli.test_guide",
    "tests.cli.test_contract",
)
AT_ONCE = 3
"""On two cores: a third of the time of all tests is waiting, for disks and for servers that do not answer."""
OF_THE_REST = 6
"""So many modules go into one process: each costs half a second to start."""
_COUNTED = re.compile(
    r"^(?P<passed>\d+) passed, (?P<failed>\d+) failed(, (?P<skipped>\d+) skipped)?$"
)


def run(modules: list[str]) -> int:
    """Run some test modules in this process; return 1 if one test failed."""
    warnings.simplefilter("error")
    suite = unittest.defaultTestLoader.loadTestsFromNames(modules)
    result = unittest.TextTestRunner(warnings="error", buffer=True).run(suite)
    wrong = [*result.failures, *result.errors]
    # A test with parts that fail is one test.
    failed = len({getattr(test, "test_case", test).id() for test, _ in wrong})
    failed += len(result.unexpectedSuccesses)
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
    # The program is started thousands of times: what it is compiled to is worth keeping.
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    waiting = list(_parts(sorted(_modules())))
    with ThreadPoolExecutor(AT_ONCE) as workers:
        total = [sum(found) for found in zip(*workers.map(_run_part, waiting), strict=True)]
    print(counts(*total))
    return 1 if total[1] else 0


def _parts(modules: list[str]) -> Iterator[list[str]]:
    """Yield the modules of each process, the slowest first; whoever is free takes the next."""
    yield from ([each] for each in SLOWEST_FIRST if each in modules)
    rest = [each for each in modules if each not in SLOWEST_FIRST]
    yield from (rest[at : at + OF_THE_REST] for at in range(0, len(rest), OF_THE_REST))


def _run_part(modules: list[str]) -> tuple[int, int, int]:
    """Run modules in a process of their own; return how many tests passed, failed and were skipped."""
    words = [sys.executable, "-m", "tools.run_tests", "--part", *modules]
    began = time.monotonic()
    ended = subprocess.run(words, cwd=ROOT, stdout=subprocess.PIPE, text=True)
    more = f" and {len(modules) - 1} more" if len(modules) > 1 else ""
    print(f"{time.monotonic() - began:.0f} s for {modules[0]}{more}", file=sys.stderr)
    match = _COUNTED.match(ended.stdout.strip().rpartition("\n")[2])
    if match is None:  # it did not come to its end
        return 0, 1, 0
    return int(match["passed"]), int(match["failed"]), int(match["skipped"] or 0)


def _modules() -> Iterator[str]:
    for folder, _, names in os.walk(os.path.join(ROOT, "tests")):
        for name in names:
            if name.startswith("test_") and name.endswith(".py"):
                path = os.path.relpath(os.path.join(folder, name), ROOT)
                yield path.removesuffix(".py").replace(os.sep, ".")


if __name__ == "__main__":
    sys.exit(main())
