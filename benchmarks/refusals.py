"""Packs that cannot be had: a reason of eight statements hidden in a large catalog, and small dense worlds.

``python -m benchmarks.refusals`` prints how long the proof and the explanation take, and how long the
reasons are.
"""

from __future__ import annotations

import random
import resource
import time
from collections.abc import Iterator
from dataclasses import replace

from benchmarks import catalogs
from benchmarks.lag import HERE, as_problem
from rellum.core.catalog.model import Catalog, Clash, GameSheet, Mod, Need, Release, Requirement
from rellum.core.solving.problem import Problem, Want
from rellum.core.solving.prover import Work
from rellum.core.solving.refusal import LEAST, explain
from rellum.core.solving.remedies import find_remedies
from rellum.core.solving.search import NotFound, Searcher
from rellum.core.values.ids import ModId, SheetId
from rellum.core.versions.orderings import DOTTED, parse_version
from rellum.core.versions.ranges import parse_range

PLANTED = 8
NEEDS = (1, 2, 2)


def entangled(seed: int, mods: int = 2000, wants: int = 300) -> Problem:
    """Return a world of so many mods whose pack cannot be had, for a reason of eight statements.

    Two wants that were there, three needs on each side through mods that were there and need much else, and
    opposite ranges of one mod.
    """
    world = catalogs.make_world(mods, 15, wants, mods // 2, seed=seed)
    dice = random.Random(seed)
    last = len(world.mods[0]) - 1
    others = sorted(set(range(mods)) - set(world.wants))
    one, two = sorted(dice.sample([want for want in world.wants if want < mods // 2], 2))
    chain = sorted(dice.sample([each for each in others if each > two], 5))
    middle, target = dice.randrange(4, last - 4), chain[-1]
    for start, links, end in (
        (one, chain[0:2], (target, 0, middle)),
        (two, chain[2:4], (target, middle + 1, last)),
    ):
        path = [start, *links]
        for here, there in zip(path, links, strict=False):
            _need(world, here, (there, 0, last))
        _need(world, path[-1], end)
    return as_problem(world)


def _need(world: catalogs.CatalogWorld, mod: int, needed: tuple[int, int, int]) -> None:
    for release in world.mods[mod]:
        release.needs = [each for each in release.needs if each[0] != needed[0]]
        release.needs.append(needed)


def forked(seed: int, mods: int = 2000, wants: int = 300) -> Problem:
    """Return such a world with a reason of ten statements, which no conclusion finds without cases.

    A want needs one of two mods, and each of them, through another, what the other want rules out.
    """
    world = catalogs.make_world(mods, 15, wants, mods // 2, seed=seed)
    dice = random.Random(seed)
    others = sorted(set(range(mods)) - set(world.wants))
    one, two = sorted(dice.sample([want for want in world.wants if want < mods // 2], 2))
    left, right, over_left, over_right, target, goal = (
        ModId(catalogs.name(each))
        for each in sorted(dice.sample([each for each in others if each > two], 6))
    )
    middle = catalogs.version(7)
    said = {
        catalogs.name(one): [Need((Requirement(left, "*"), Requirement(right, "*")))],
        left: [Need((Requirement(over_left, "*"),))],
        right: [Need((Requirement(over_right, "*"),))],
        over_left: [Need((Requirement(target, f"<{middle}"),))],
        over_right: [Need((Requirement(goal, f"<{middle}"),))],
        catalogs.name(two): [
            Need((Requirement(target, f">={middle}"),)),
            Need((Requirement(goal, f">={middle}"),)),
        ],
    }
    problem = as_problem(world)
    cards = dict(problem.catalog.mods)
    for mod, needs in said.items():
        card = cards[ModId(mod)]
        releases = tuple(replace(each, needs=(*each.needs, *needs)) for each in card.releases)
        cards[card.id] = replace(card, releases=releases)
    return replace(problem, catalog=replace(problem.catalog, mods=cards))


def dense(
    seed: int, mods: int = 60, releases: int = 8, wants: int = 10, clashes: float = 8
) -> Problem:
    """Return a world near the threshold of what can be had: needs with alternatives, and clashes.

    ``clashes`` is how many a release has on average. No line-up is planted.
    """
    dice = random.Random(seed)
    names = [ModId(f"mod-{number:03}") for number in range(mods)]
    versions = [parse_version(f"{number + 1}.0") for number in range(releases)]

    def some_of(mod: ModId) -> Requirement:
        low = dice.randrange(releases)
        high = min(releases, low + dice.randrange(2, 6))
        return Requirement(mod, f">={low + 1}.0, <{high + 1}.0")

    def blocks() -> Iterator[range]:
        """Yield releases that say the same: some in a row."""
        at = 0
        while at < releases:
            size = dice.randrange(1, 3)
            yield range(at, min(releases, at + size))
            at += size

    by_mod = {}
    for mod in names:
        others = [each for each in names if each != mod]
        needs: list[list[Need]] = [[] for _ in versions]
        hit: list[list[Clash]] = [[] for _ in versions]
        for _ in range(dice.choice(NEEDS)):
            named = dice.sample(others, dice.choice([1, 1, 2]))
            for block in blocks():
                need = Need(tuple(map(some_of, named)))
                for number in block:
                    needs[number].append(need)
        for _ in range(int(clashes) + (dice.random() < clashes % 1)):
            clash = Clash(some_of(dice.choice(others)))
            for number in dice.choice([*blocks()]):
                hit[number].append(clash)
        made = [
            Release(
                mod=mod,
                version=version,
                game=None,
                needs=tuple(needs[number]),
                clashes=tuple(hit[number]),
                source=HERE,
            )
            for number, version in enumerate(versions)
        ]
        by_mod[mod] = Mod(
            id=mod, name=mod, kind="mod", licence="", ordering=DOTTED,
            releases=tuple(reversed(made)), source=HERE,
        )  # fmt: skip
    game = parse_version("1.0")
    sheet = GameSheet(
        id=SheetId("bench"), name="Bench", marks=(), version_rules=(), edition_rules=(),
        expansion_rules=(), known_versions=(game,), places={}, own_files=(), source=HERE,
    )  # fmt: skip
    cards = Catalog(folders=(), sheet=sheet, mods=by_mod, orderings={}, offered={}, trials=())
    asked = tuple(
        Want(mod=mod, range=parse_range("*"), source=HERE) for mod in dice.sample(names, wants)
    )
    return Problem(games=(game,), edition=None, expansions=(), wants=asked, holds=(), catalog=cards)


def impossible(count: int, **said: float) -> Iterator[tuple[int, Problem]]:
    """Yield dense worlds without a line-up, each with its seed."""
    seed = 0
    while count:
        seed += 1
        problem = dense(seed, **said)  # type: ignore[arg-type]
        if isinstance(Searcher(problem).search(problem), NotFound):
            count -= 1
            yield seed, problem


def measure(name: str, problem: Problem) -> None:
    """Print what a refusal costs and says."""
    began = time.perf_counter()
    searcher = Searcher(problem)
    found = searcher.search(problem)
    proof = time.perf_counter() - began
    assert isinstance(found, NotFound)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    began = time.perf_counter()
    refusal = explain(searcher, found)
    reason = time.perf_counter() - began
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
    began = time.perf_counter()
    remedies = find_remedies(searcher, problem, refusal, Work(max(4 * found.steps, LEAST)))
    helped = time.perf_counter() - began
    print(
        f"{name}: proof {proof:.2f} s, reason of {len(refusal.reason.causes)} in {reason:.2f} s "
        f"({peak / 1000:.0f} MB more), {len(remedies)} remedies in {helped:.2f} s",
        flush=True,
    )


def main() -> None:
    """Measure all of them."""
    for seed in (1, 2, 3):
        measure(f"2,000 × 15, planted {PLANTED}, world {seed}", entangled(seed))
    for seed in (1, 2, 3, 4):
        measure(f"2,000 × 15, planted 9 that need cases, world {seed}", forked(seed))
    for seed, problem in impossible(12):
        measure(f"60 × 8 near the threshold, world {seed}", problem)


if __name__ == "__main__":
    main()
