"""Hunts in random packs with planted culprits: how many are found, in how many rounds, beside the bound.

``python -m tools.hunt_figures [PACKS] [SEED]``. A pack has 200 mods: libraries that many need, and
chains of needs. The bound is the information in the culprits: ``log2`` of the number of sets of that size.
"""

from __future__ import annotations

import math
import random
import sys
from collections.abc import Callable
from typing import NamedTuple

from rellum.core.hunting.hunt import Answer, Found, Hunter
from rellum.core.hunting.mods import ModSet, PackMods
from rellum.core.hunting.stage import CLEAN, OFTEN_WRONG, RARELY_WRONG, SHOWS_OFTEN, Rates

ROWS = (
    ("clean", CLEAN, 0.0, 0.0),
    ("2 % wrong", RARELY_WRONG, 0.02, 0.02),
    ("5 % wrong", OFTEN_WRONG, 0.05, 0.05),
    ("shows 8 times in 10", SHOWS_OFTEN, 0.2, 0.0),
)
"""What answers are like, how the hunter takes them, how often they miss a break or see one that is none."""


class World(NamedTuple):
    """A random pack, and the mods that break it together."""

    pack: PackMods
    culprits: ModSet

    def truth(self, mods: ModSet) -> bool:
        """Whether a set of mods breaks."""
        return self.culprits <= mods


def random_pack(dice: random.Random, count: int) -> PackMods:
    """Return a pack with libraries of very different popularity, and chains of needs up to five deep."""
    names = [f"m{number:03}" for number in range(count)]
    libraries = names[: max(1, count // 8)]
    weights = [1 / (number + 1) for number in range(len(libraries))]
    needs: dict[str, list[str]] = {}
    for number, name in enumerate(names):
        if name in libraries:
            if number and dice.random() < 0.2:
                needs[name] = [dice.choice(libraries[:number])]
            continue
        found = dice.choices(libraries, weights, k=dice.choice((0, 0, 1, 1, 2, 3)))
        if dice.random() < 0.1:
            found.append(
                names[dice.randrange(len(libraries), number)]
                if number > len(libraries)
                else libraries[0]
            )
        needs[name] = sorted(set(found))
    dice.shuffle(names)
    return PackMods(names, needs)


def random_world(dice: random.Random, count: int, size: int) -> World:
    """Return a pack with so many culprits, none of which needs another."""
    while True:
        pack = random_pack(dice, count)
        chosen = frozenset(dice.sample(pack.chain, size))
        if all(not (pack.close([one]) & chosen - {one}) for one in chosen):
            return World(pack, chosen)


def play_out(world: World, rates: Rates, answer: Callable[[ModSet], Answer]) -> Found:
    """Run a hunt to its end, the checks of the whole and of vanilla taken as done."""
    run = Hunter(world.pack, rates, checks_first=False).run()
    question = next(run)
    while True:
        assert world.pack.core(question.mods) == question.mods, "a set that cannot be laid"
        try:
            question = run.send(answer(question.mods))
        except StopIteration as stop:
            found = stop.value
            assert isinstance(found, Found)
            return found


def answers_of(
    world: World, dice: random.Random, miss: float, alarm: float
) -> Callable[[ModSet], Answer]:
    """Return what answers for a pack, wrong as often as these rates say."""

    def answer(mods: ModSet) -> Answer:
        breaks = world.truth(mods)
        is_wrong = dice.random() < (miss if breaks else alarm)
        return "breaks" if breaks != is_wrong else "works"

    return answer


def main(packs: int, seed: int) -> None:
    """Print a table."""
    print(f"{packs} packs of 200 mods a row, seed {seed}; rounds without the two first checks")
    print(
        f"{'answers':<22}{'culprits':>9}{'bound':>7}{'median':>8}{'95 %':>6}{'worst':>7}{'right':>8}"
    )
    for label, rates, miss, alarm in ROWS:
        for size in (1, 2, 3):
            dice = random.Random(f"{seed} {label} {size}")
            rounds, right = [], 0
            for _ in range(packs):
                world = random_world(dice, 200, size)
                found = play_out(world, rates, answers_of(world, dice, miss, alarm))
                rounds.append(found.rounds)
                right += found.culprits == (world.culprits,)
            rounds.sort()
            bound = math.log2(math.comb(200, size))
            print(
                f"{label:<22}{size:>9}{bound:>7.1f}{rounds[len(rounds) // 2]:>8}"
                f"{rounds[int(len(rounds) * 0.95)]:>6}{rounds[-1]:>7}{100 * right / packs:>7.1f}%",
                flush=True,
            )


if __name__ == "__main__":
    main(int((sys.argv[1:] or ["300"])[0]), int((sys.argv[2:] or ["1"])[0]))
