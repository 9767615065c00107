"""Whether packs near the threshold can be had: our search and prover beside clingo, a solver for answer sets.

``python -m benchmarks.verdicts [WORLDS]`` needs clingo (from PyPI). It draws worlds of 60 to 300 mods, and
prints how often both say the same, and the times by quantile.
"""

from __future__ import annotations

import statistics
import sys
import time
from collections.abc import Iterator

from benchmarks.refusals import dense
from rellum.core.catalog.model import Requirement
from rellum.core.solving.problem import Problem
from rellum.core.solving.search import Found, Searcher
from rellum.core.versions.ranges import parse_range

SIZES = (60, 120, 300)
CLASHES = (4.0, 6.0, 8.0)


def rules(problem: Problem) -> Iterator[str]:
    """Yield the problem as a ground program: at most one release of each mod, wants, needs, clashes."""
    mods = problem.catalog.mods
    names = {
        (mod.id, at): f"r({number},{at})"
        for number, mod in enumerate(mods.values())
        for at in range(len(mod.releases))
    }

    def meeting(requirement: Requirement) -> Iterator[str]:
        range_ = parse_range(requirement.range)
        for at, release in enumerate(mods[requirement.mod].releases):
            if release.version in range_:
                yield names[requirement.mod, at]

    for mod in mods.values():
        yield f"{{ {'; '.join(names[mod.id, at] for at in range(len(mod.releases)))} }} 1."
        for at, release in enumerate(mod.releases):
            for need in release.needs:
                options = [each for one in need.any_of for each in meeting(one)]
                without = "".join(f", not {each}" for each in options)
                yield f":- {names[mod.id, at]}{without}."
            for clash in release.clashes:
                for hit in meeting(clash.other):
                    yield f":- {names[mod.id, at]}, {hit}."
    for want in problem.wants:
        of_it = [names[want.mod, at] for at in range(len(mods[want.mod].releases))]
        yield ":- " + ", ".join(f"not {each}" for each in of_it) + "."


def clingo_says(problem: Problem) -> tuple[bool, float]:
    """Return whether clingo finds a line-up, and the seconds it takes to solve."""
    import clingo

    control = clingo.Control(["--warn=none"])
    control.add("base", [], "\n".join(rules(problem)))
    control.ground([("base", [])])
    began = time.perf_counter()
    found = bool(control.solve().satisfiable)
    return found, time.perf_counter() - began


def main() -> None:
    """Draw, ask both, and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    for size in SIZES:
        ours, theirs, impossible, other = [], [], 0, 0
        for seed in range(count):
            problem = dense(seed, mods=size, clashes=CLASHES[seed % len(CLASHES)])
            began = time.perf_counter()
            found = isinstance(Searcher(problem).search(problem), Found)
            ours.append(time.perf_counter() - began)
            said, seconds = clingo_says(problem)
            theirs.append(seconds)
            impossible += not found
            other += found != said
        print(f"{count} worlds of {size} × 8, {impossible} impossible; {other} verdicts differ; "
              f"search and reading {_quantiles(ours)}; clingo, solving alone {_quantiles(theirs)}",
              flush=True)  # fmt: skip


def _quantiles(seconds: list[float]) -> str:
    cuts = statistics.quantiles(seconds, n=20)
    return f"median {cuts[9]:.3f} s, 95 % {cuts[18]:.3f} s, most {max(seconds):.3f} s"


if __name__ == "__main__":
    main()
