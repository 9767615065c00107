"""Reducing a set of statements that cannot all hold, until none of them can be left out.

Deletion with two aids: what a proof did not use goes at once, and a model of all but one statement shows
others that cannot be left out either (Belov and Marques-Silva, "Accelerating MUS extraction with recursive
model rotation", 2011).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

from rellum.core.solving.bits import bits_of
from rellum.core.solving.prover import OutOfWork, Prover, Work


def reduce(prover: Prover, core: int, order: Iterable[int], work: Work) -> tuple[int, bool]:
    """Return a part of a core (bits) that cannot hold, and whether none of it can be left out.

    ``order`` is in which order bits are left out. Where the work does not suffice, what is reached.
    """
    needed = 0
    rotation = _Rotation(prover)
    try:
        for bit in order:
            flag = 1 << bit
            if not core & flag or needed & flag:
                continue
            answer = prover.solve(core & ~flag, work)
            if answer.core:
                core = answer.core
            else:
                needed |= rotation.needed(answer.model, flag, core, work)
    except OutOfWork:
        return core, False
    return core, True


class _Rotation:
    """Finds statements that cannot be left out, from a model in which only one of all is broken."""

    def __init__(self, prover: Prover) -> None:
        self._clauses = prover.given
        self._of_bit: dict[int, list[int]] = defaultdict(list)
        self._of_variable: dict[int, list[int]] = defaultdict(list)
        for at, (bit, literals) in enumerate(prover.given):
            self._of_bit[bit].append(at)
            for number, _ in literals:
                self._of_variable[number].append(at)

    def needed(self, model: dict[int, int], flag: int, core: int, work: Work) -> int:
        """Return the bits that cannot be left out of the core: the one that is broken, and more."""
        found = flag
        waiting = [(model, flag)]
        while waiting:
            there, broken = waiting.pop()
            for number, value in self._ways_to_mend(there, broken):
                work.spend(len(self._of_variable[number]))
                before = there[number]
                there[number] = value
                also = self._broken_by(there, number, core)
                if also and not also & (also - 1) and not also & found:
                    found |= also
                    waiting.append((dict(there), also))
                there[number] = before
        return found

    def _ways_to_mend(self, model: dict[int, int], flag: int) -> Iterator[tuple[int, int]]:
        """Yield the values of single variables with which the broken statement would hold."""
        broken = [
            self._clauses[at][1]
            for at in self._of_bit[flag.bit_length() - 1]
            if not any(model[number] & mask for number, mask in self._clauses[at][1])
        ]
        if len(broken) == 1:
            for number, mask in broken[0]:
                for value in bits_of(mask):
                    yield number, 1 << value

    def _broken_by(self, model: dict[int, int], number: int, core: int) -> int:
        found = 0
        for at in self._of_variable[number]:
            bit, literals = self._clauses[at]
            if core >> bit & 1 and not any(model[each] & mask for each, mask in literals):
                found |= 1 << bit
                if found & (found - 1):
                    return found
        return found
