"""How far behind the newest releases a line-up is, beside libsolv's, over eight generated worlds."""

from __future__ import annotations

import json
import os
import subprocess

from benchmarks import catalogs
from rellum.core.catalog.model import Catalog, Clash, GameSheet, Mod, Need, Release, Requirement
from rellum.core.catalog.release_rules import Source
from rellum.core.solving.problem import Problem, Want
from rellum.core.solving.search import Found, Searcher
from rellum.core.values.ids import ModId, SheetId
from rellum.core.versions.orderings import DOTTED, parse_version
from rellum.core.versions.ranges import parse_range

HERE = Source("benchmark")
SEEDS = range(1, 9)


def as_problem(world: catalogs.CatalogWorld) -> Problem:
    """Return a generated world as the solver is asked."""
    mods = {}
    for number, releases in enumerate(world.mods):
        mod_id = ModId(catalogs.name(number))
        mods[mod_id] = Mod(
            id=mod_id,
            name=mod_id,
            kind="mod",
            licence="",
            ordering=DOTTED,
            releases=tuple(_release(mod_id, at, r) for at, r in reversed([*enumerate(releases)])),
            source=HERE,
        )
    games = tuple(map(parse_version, catalogs.GAME_VERSIONS))
    sheet = GameSheet(
        id=SheetId("bench"), name="Bench", marks=(), version_rules=(), edition_rules=(),
        expansion_rules=(), known_versions=games, places={}, own_files=(), source=HERE,
    )  # fmt: skip
    catalog = Catalog(folders=(), sheet=sheet, mods=mods, orderings={}, offered={}, trials=())
    anything = parse_range("*")
    return Problem(
        games=(games[catalogs.GAME],),
        edition=None,
        expansions=(),
        wants=tuple(
            Want(mod=ModId(catalogs.name(mod)), range=anything, source=HERE) for mod in world.wants
        ),
        holds=(),
        catalog=catalog,
    )


def _release(mod: ModId, at: int, drawn: catalogs.WorldRelease) -> Release:
    first, last = (catalogs.GAME_VERSIONS[index] for index in drawn.game)
    return Release(
        mod=mod,
        version=parse_version(catalogs.version(at)),
        game=f">={first}, <={last}",
        needs=tuple(Need((_requirement(each),)) for each in drawn.needs),
        clashes=tuple(Clash(_requirement(each)) for each in drawn.clashes),
        source=HERE,
    )


def _requirement(drawn: tuple[int, int, int]) -> Requirement:
    other, low, high = drawn
    return Requirement(ModId(catalogs.name(other)), catalogs.range_text(low, high, 15))


def print_lags(folder: str, system_python: str) -> None:
    """Print, for each world and in all, how many releases the line-ups lag behind the newest."""
    totals = [0, 0]
    for seed in SEEDS:
        world = catalogs.make_world(2000, 15, 300, 1000, seed=seed)
        problem = as_problem(world)
        found = Searcher(problem).search(problem)
        assert isinstance(found, Found)
        ours = sum(value - 1 for value in found.values.values())
        file = os.path.join(folder, "lag.json")
        catalogs.dump(world, file)
        words = [system_python, "-m", "benchmarks.libsolv_world", file]
        result = subprocess.run(words, capture_output=True, text=True, check=True)
        theirs = json.loads(result.stdout)
        totals[0] += ours
        totals[1] += theirs["lag"]
        print(
            f"world {seed}: rellum {ours} over {len(found.values)} mods, "
            f"libsolv {theirs['lag']} over {theirs['chosen']}"
        )
    print(f"in all: rellum {totals[0]}, libsolv {totals[1]}")
