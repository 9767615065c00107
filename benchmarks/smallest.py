"""Whether the reasons that are told are the smallest there are: beside an exact search by clingo.

``python -m benchmarks.smallest [WORLDS] [SECONDS]`` needs clingo (from PyPI). It draws worlds of 14 to 28
mods that cannot be had. The exact search takes the statements as the search has them, and finds the smallest
set by hitting sets (Ignatiev and others, "Smallest MUS extraction with minimal hitting set dualization",
2015); a world for which it needs longer than so many seconds is not counted.
"""

from __future__ import annotations

import statistics
import sys
import time
from collections.abc import Sequence
from typing import Any

from benchmarks.refusals import dense
from rellum.core.solving.numbering import numbered
from rellum.core.solving.refusal import explain
from rellum.core.solving.search import NotFound, Searcher

SIZES = (14, 20, 28)


class Exact:
    """Finds the smallest set of statements that cannot all hold; ``clauses`` are numbered by statement."""

    def __init__(
        self, clauses: Sequence[tuple[int, Any]], sizes: Sequence[int], until: float
    ) -> None:
        import clingo

        self._until = until
        self._statements = sorted({number for number, _ in clauses})
        self._worlds = clingo.Control(["--warn=none"])
        self._worlds.add("base", [], "\n".join(self._program(clauses, sizes)))
        self._worlds.ground([("base", [])])
        self._hitting = clingo.Control(["--warn=none"])
        chosen = "".join(f"{{h({number})}}. " for number in self._statements)
        self._hitting.add("base", [], f"{chosen} #minimize {{1,S: h(S)}}.")
        self._hitting.ground([("base", [])])

    def _program(self, clauses: Sequence[tuple[int, Any]], sizes: Sequence[int]) -> list[str]:
        lines = []
        for number in sorted({each for _, literals in clauses for each, _ in literals}):
            values = "; ".join(f"v({number},{value})" for value in range(sizes[number]))
            lines.append(f"1 {{ {values} }} 1.")
        for statement in self._statements:
            lines.append(f"{{ s({statement}) }}.")
        for statement, literals in clauses:
            without = "".join(
                f", not v({number},{value})"
                for number, mask in literals
                for value in range(sizes[number])
                if mask >> value & 1
            )
            lines.append(f":- s({statement}){without}.")
        lines.append("#maximize {1,S: s(S)}.")
        return lines

    def size(self) -> int | None:
        """Return how many statements the smallest set has; None: the time was over."""
        import clingo

        for number in range(1_000_000):
            hitting = self._best(self._hitting, [], "h")
            if hitting is None:
                return None
            held = [(clingo.Function("s", [clingo.Number(each)]), True) for each in hitting]
            left = self._best(self._worlds, held, "s")
            if left is None:
                return None
            if not left and hitting:
                return len(hitting)
            out = [each for each in self._statements if each not in left]
            rule = "".join(f", not h({each})" for each in out).removeprefix(", ")
            self._hitting.add(f"cut{number}", [], f":- {rule}.")
            self._hitting.ground([(f"cut{number}", [])])
        return None

    def _best(self, control: Any, held: list[Any], name: str) -> set[int] | None:
        """Return the statements of the best answer, none where there is none; None: the time was over."""
        best: set[int] = set()
        with control.solve(assumptions=held, yield_=True, async_=True) as answers:
            while True:
                answers.resume()
                if not answers.wait(max(0.0, self._until - time.monotonic())):
                    answers.cancel()
                    return None
                model = answers.model()
                if model is None:
                    return best
                symbols = model.symbols(atoms=True)
                best = {each.arguments[0].number for each in symbols if each.name == name}


def main() -> None:
    """Draw, ask both, and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 30
    patience = float(sys.argv[2]) if len(sys.argv) > 2 else 60
    for mods in SIZES:
        seconds: list[float] = []
        sizes: list[int] = []
        equal = longer = unknown = claimed = false_claims = seed = 0
        while len(seconds) < count:
            seed += 1
            problem = dense(seed, mods=mods, releases=5, wants=mods // 4, clashes=2.0)
            searcher = Searcher(problem)
            refused = searcher.search(problem)
            if not isinstance(refused, NotFound):
                continue
            began = time.perf_counter()
            refusal = explain(searcher, refused)
            seconds.append(time.perf_counter() - began)
            told = min(len(each.causes) for each in (refusal.reason, *refusal.others))
            world = numbered((*refused.supposed, *searcher.engine.given()))
            exact = Exact(world.clauses, searcher.engine.sizes, time.monotonic() + patience).size()
            if exact is None:
                unknown += 1
                continue
            sizes.append(exact)
            equal += told == exact
            longer += told > exact
            claims = refusal.is_complete or refusal.least == told
            claimed += claims
            false_claims += claims and told != exact
        print(
            f"{mods} × 5: {count} impossible of {seed}; exact size {min(sizes)} to {max(sizes)} known of "
            f"{len(sizes)}: the same {equal}, longer {longer}; said to be the shortest {claimed}, wrongly "
            f"{false_claims}; explained in {statistics.median(seconds):.3f} s, most {max(seconds):.3f} s",
            flush=True,
        )


if __name__ == "__main__":
    main()
