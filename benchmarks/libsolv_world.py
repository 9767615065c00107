"""libsolv on a generated catalog: ``/usr/bin/python3 -m benchmarks.libsolv_world FILE.json``.

Run by the system's Python, for which Debian's package python3-solv is built. Reads the world that
``benchmarks.catalogs`` dumped, fills a pool by the bindings, solves, and prints how many mods were
chosen and by how many releases they lag behind the newest; or how many problems there are. The
releases that are not for the pack's game are left out while loading, as libsolv has no notion of it.
"""

from __future__ import annotations

import json
import sys
from typing import Any

import solv  # type: ignore[import-not-found]


def load(world: dict[str, Any]) -> solv.Pool:
    """Fill a pool."""
    pool = solv.Pool()
    pool.setdisttype(solv.Pool.DISTTYPE_RPM)
    pool.setarch("x86_64")
    repo = pool.add_repo("world")
    versions, names, game = world["versions"], world["names"], world["game"]
    last = len(versions) - 1
    at_least, at_most = solv.REL_GT | solv.REL_EQ, solv.REL_LT | solv.REL_EQ

    def related(mod: int, flags: int, version: int) -> Any:
        return pool.rel2id(pool.str2id(names[mod]), pool.str2id(versions[version]), flags)

    for mod, releases in enumerate(world["mods"]):
        for number, (games, needs, clashes) in enumerate(releases):
            if not games[0] <= game <= games[1]:
                continue
            item = repo.add_solvable()
            item.name, item.evr, item.arch = names[mod], versions[number] + "-1", "noarch"
            item.add_deparray(solv.SOLVABLE_PROVIDES, related(mod, solv.REL_EQ, number))
            for other, low, high in needs:
                if low:
                    item.add_deparray(solv.SOLVABLE_REQUIRES, related(other, at_least, low))
                if high < last:
                    item.add_deparray(solv.SOLVABLE_REQUIRES, related(other, at_most, high))
                if not low and high == last:
                    item.add_deparray(solv.SOLVABLE_REQUIRES, pool.str2id(names[other]))
            for other, low, high in clashes:
                for hit in range(low, high + 1):
                    item.add_deparray(solv.SOLVABLE_CONFLICTS, related(other, solv.REL_EQ, hit))
    pool.addfileprovides()
    pool.createwhatprovides()
    return pool


def main() -> int:
    """Load and solve."""
    with open(sys.argv[1], encoding="utf-8") as file:
        world = json.load(file)
    pool = load(world)
    kind = solv.Job.SOLVER_INSTALL | solv.Job.SOLVER_SOLVABLE_NAME
    jobs = [pool.Job(kind, pool.str2id(world["names"][mod])) for mod in world["wants"]]
    solver = pool.Solver()
    problems = solver.solve(jobs)
    if problems:
        print(json.dumps({"problems": len(problems)}))
        return 1
    chosen = solver.transaction().newsolvables()
    newest = len(world["versions"]) - 1
    lag = sum(newest - world["versions"].index(item.evr.removesuffix("-1")) for item in chosen)
    print(json.dumps({"chosen": len(chosen), "lag": lag}))
    return 0


if __name__ == "__main__":
    sys.exit(main())
