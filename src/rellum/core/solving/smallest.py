"""The smallest set of statements that cannot all hold, by hitting sets.

Every such set has a statement of each *correction*: what has to go so that the rest can hold. So the fewest
statements that hit all corrections known cannot be more than the smallest set has; where they cannot hold
themselves they are it, else they show one more correction (Ignatiev and others, "Smallest MUS extraction with
minimal hitting set dualization", 2015). Statements are bits of a mask.
"""

from __future__ import annotations

from collections.abc import Sequence

from rellum.core.solving.bits import bits_of
from rellum.core.solving.prover import OutOfWork, Prover, Work


def find_smallest(prover: Prover, everything: int, known: int, work: Work) -> tuple[int, bool]:
    """Return the smallest set that cannot hold, and whether that is proven; else the one that is known."""
    corrections: list[int] = []
    try:
        while True:
            fewest = fewest_hitting(corrections, known.bit_count(), work)
            if fewest is None:
                return known, True
            answer = prover.solve(fewest, work)
            if answer.core:
                return answer.core, True
            corrections += _corrections(prover, everything, fewest, answer.model, work)
    except OutOfWork:
        return known, False


def _corrections(
    prover: Prover, everything: int, held: int, model: dict[int, int], work: Work
) -> list[int]:
    """Return corrections that have nothing of what is held, and nothing in common."""
    found: list[int] = []
    while True:
        inside = _grown(prover, everything, model, work)
        found.append(everything & ~inside)
        held |= found[-1]
        answer = prover.solve(held, work)
        if answer.core:
            return found
        model = answer.model


def _grown(prover: Prover, everything: int, model: dict[int, int], work: Work) -> int:
    """Return as many statements as can hold beside those that hold in a model."""
    inside = _holding(prover, everything, model, work)
    for bit in bits_of(everything & ~inside):
        flag = 1 << bit
        if inside & flag:
            continue
        answer = prover.solve(inside | flag, work)
        if not answer.core:
            inside = _holding(prover, everything, answer.model, work)
    return inside


def _holding(prover: Prover, everything: int, model: dict[int, int], work: Work) -> int:
    """Return the statements that hold in a model."""
    work.spend(len(prover.given))
    for bit, literals in prover.given:
        if everything >> bit & 1 and not any(model[number] & mask for number, mask in literals):
            everything &= ~(1 << bit)
    return everything


def fewest_hitting(sets: Sequence[int], below: int, work: Work) -> int | None:
    """Return the fewest bits that hit all sets, if they are fewer than ``below``; else None.

    Raises OutOfWork.
    """
    best: int | None = None
    waiting = [(0, tuple(sets))]
    while waiting:
        chosen, left = waiting.pop()
        work.spend(len(left) + 1)
        chosen, left = _reduced(chosen, left, work)
        if chosen.bit_count() + _apart(left) >= below:
            continue
        if not left:
            best, below = chosen, chosen.bit_count()
            continue
        shortest = min(left, key=int.bit_count)
        without = left
        branches = []
        for bit in sorted(bits_of(shortest), key=lambda each: -sum(s >> each & 1 for s in left)):
            flag = 1 << bit
            branches.append((chosen | flag, tuple(each for each in without if not each & flag)))
            without = tuple(each & ~flag for each in without)
        waiting += reversed(branches)
    return best


def _reduced(chosen: int, sets: Sequence[int], work: Work) -> tuple[int, tuple[int, ...]]:
    """Take what must be taken, and leave out sets and bits that can never matter."""
    while True:
        work.spend(len(sets) ** 2 // 6 + sum(map(int.bit_count, sets)) // 2 + 1)
        left: list[int] = []
        for each in sorted(set(sets), key=int.bit_count):
            if not each & chosen and not any(small & each == small for small in left):
                left.append(each)
        single = 0
        for each in left:
            if each & (each - 1):
                break
            single |= each
        if single:
            chosen |= single
            sets = left
            continue
        needless = _needless(left)
        if not needless:
            return chosen, tuple(left)
        sets = [each & ~needless for each in left]


def _needless(sets: Sequence[int]) -> int:
    """Return bits that hit no more than another one does."""
    together: dict[int, int] = {}  # for each bit, those that are in all of its sets
    for each in sets:
        for bit in bits_of(each):
            together[bit] = together.get(bit, each) & each
    needless = 0
    for bit, others in together.items():
        if others & ~needless & ~(1 << bit):
            needless |= 1 << bit
    return needless


def _apart(sets: Sequence[int]) -> int:
    """Return how many of the sets at least have nothing in common; each takes a bit of its own."""
    taken = count = 0
    for each in sorted(sets, key=int.bit_count):
        if not each & taken:
            taken |= each
            count += 1
    return count
