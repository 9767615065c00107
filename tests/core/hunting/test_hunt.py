"""Hunts in random packs, against the truth that was planted: found, proven, and in how many rounds."""

from __future__ import annotations

import random
import unittest
from collections.abc import Callable

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.hunting.hunt import MOST_ROUNDS, Answer, Found, Hunter, Question
from rellum.core.hunting.mods import ModSet, PackMods
from rellum.core.hunting.stage import CLEAN, RARELY_WRONG, Rates
from tools.hunt_figures import World, answers_of, play_out, random_pack, random_world


def clean(world: World) -> Callable[[ModSet], Answer]:
    return lambda mods: "breaks" if world.truth(mods) else "works"


def played(hunter: Hunter, answer: Callable[[Question], Answer]) -> tuple[Found, list[Question]]:
    run = hunter.run()
    asked = [next(run)]
    while True:
        try:
            asked.append(run.send(answer(asked[-1])))
        except StopIteration as stop:
            return stop.value, asked


class ModsTest(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10**6), st.integers(1, 40))
    def test_prefixes_and_cores_can_be_laid(self, seed: int, count: int) -> None:
        dice = random.Random(seed)
        pack = random_pack(dice, count)
        self.assertEqual(sorted(pack.chain), sorted(pack.needs))
        for number in range(count + 1):
            prefix = frozenset(pack.chain[:number])
            self.assertEqual(pack.close(prefix), prefix)
        some = frozenset(dice.sample(pack.chain, count // 2))
        core = pack.core(some)
        self.assertLessEqual(core, some)
        self.assertEqual(pack.close(core), core)
        for mod in some - core:  # nothing was left out that could stay
            self.assertNotEqual(pack.close(core | {mod}) & some, pack.close(core | {mod}))

    def test_a_circle_of_needs_is_taken_as_it_comes(self) -> None:
        pack = PackMods(("a", "b"), {"a": ["b"], "b": ["a"]})
        self.assertEqual(set(pack.chain), {"a", "b"})


class HuntTest(unittest.TestCase):
    def test_clean_answers_always_lead_to_the_culprits(self) -> None:
        for size, most in ((1, 13), (2, 22), (3, 31)):
            dice = random.Random(size)
            rounds = []
            for _ in range(40):
                world = random_world(dice, 200, size)
                found = play_out(world, CLEAN, clean(world))
                self.assertEqual(found.culprits, (world.culprits,))
                self.assertEqual(found.ending, "found")
                self.assertFalse(world.truth(found.fixed or world.culprits))
                rounds.append(found.rounds)
            self.assertLessEqual(max(rounds), most)

    def test_wrong_answers_are_asked_again(self) -> None:
        dice = random.Random(3)
        right = 0
        for _ in range(60):
            world = random_world(dice, 60, dice.choice((1, 2)))
            found = play_out(world, RARELY_WRONG, answers_of(world, dice, 0.02, 0.02))
            right += found.culprits == (world.culprits,)
        self.assertGreaterEqual(right, 56)

    def test_two_culprits_that_break_alone_are_both_found(self) -> None:
        dice = random.Random(5)
        for _ in range(30):
            world = random_world(dice, 40, 2)
            alone = sorted(world.culprits)

            def answer(question: Question, alone: list[str] = alone) -> Answer:
                return "breaks" if set(alone) & question.mods else "works"

            found, _ = played(Hunter(world.pack, CLEAN), answer)
            self.assertEqual(sorted(map(sorted, found.culprits)), [[each] for each in alone])
            self.assertFalse(set(alone) & (found.fixed or frozenset(alone)))

    def test_vanilla_or_nothing_breaks(self) -> None:
        pack = PackMods(("a", "b"), {})
        found, asked = played(Hunter(pack, CLEAN), lambda _: "breaks")
        self.assertEqual((found.ending, len(asked)), ("vanilla breaks", 3))
        found, asked = played(Hunter(pack, CLEAN), lambda _: "works")
        self.assertEqual((found.ending, len(asked)), ("nothing breaks", 2))
        found, _ = played(Hunter(pack, CLEAN), lambda _: "other")
        self.assertEqual(found.ending, "cannot be told")

    def test_a_need_that_no_card_states_is_told(self) -> None:
        names = [f"m{number}" for number in range(30)]
        pack = PackMods(names, {})

        def answer(question: Question) -> Answer:
            mods = question.mods
            if "m20" in mods and "m3" not in mods:  # m20 needs m3, and nobody said so
                return "other"
            return "breaks" if {"m20", "m25"} <= mods else "works"

        found, _ = played(Hunter(pack, CLEAN), answer)
        named = frozenset().union(*found.culprits, found.untold)
        self.assertIn(found.ending, ("found", "cannot be told"))
        self.assertLessEqual({"m20", "m25"}, named | {"m3"} if found.ending == "found" else named)

    def test_rounds_are_bounded_whatever_is_answered(self) -> None:
        for seed in range(20):
            dice = random.Random(seed)
            answers: tuple[Answer, ...] = ("works", "breaks", "other")
            hunter = Hunter(random_pack(dice, 30), Rates(0.05, 0.05))
            found, asked = played(hunter, lambda _, d=dice, a=answers: d.choice(a))  # type: ignore[misc]
            self.assertLessEqual(found.rounds, MOST_ROUNDS)
            self.assertEqual(found.rounds, len(asked))

    def test_the_same_answers_ask_the_same(self) -> None:
        world = random_world(random.Random(9), 50, 2)
        one, first = played(Hunter(world.pack, CLEAN), lambda q: clean(world)(q.mods))
        other, second = played(Hunter(world.pack, CLEAN), lambda q: clean(world)(q.mods))
        self.assertEqual((one, first), (other, second))

    def test_what_is_likely_is_asked_first(self) -> None:
        dice = random.Random(11)
        informed = plain = 0
        for _ in range(20):
            world = random_world(dice, 100, 1)
            likely = dict.fromkeys(world.pack.chain, 1.0) | dict.fromkeys(world.culprits, 40.0)
            hunter = Hunter(world.pack, CLEAN, likely, checks_first=False)
            informed += played(hunter, lambda q, w=world: clean(w)(q.mods))[0].rounds  # type: ignore[misc]
            plain += play_out(world, CLEAN, clean(world)).rounds
        self.assertLess(informed, plain)


if __name__ == "__main__":
    unittest.main()
