"""A guide for the search where it meets many conflicts: can what is decided end in a line-up at all?

The search decides in the order of the aims, and may spend long on what an early decision made impossible.
The prover (``prover.py``) decides in an order of its own and finds out sooner. Its answers follow from the
same clauses, so the line-up that is found stays the best one.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

from rellum.core.solving.bits import bits_of
from rellum.core.solving.clauses import Clause, Literal
from rellum.core.solving.numbering import numbered
from rellum.core.solving.prover import Prover, Work


class Guide:
    """Answers for the clauses that were given so far.

    What the pack and the game fix is decided before all else, and not among the clauses: so that a lesson
    holds for other questions, too.
    """

    def __init__(self, clauses: Sequence[Clause], sizes: Sequence[int]) -> None:
        world = numbered(clauses)
        self._clauses_of: dict[int, list[Clause]] = defaultdict(list)
        for clause, (number, _) in zip(clauses, world.clauses, strict=True):
            self._clauses_of[number].append(clause)
        self._sizes = sizes
        self._prover = Prover(world.clauses, sizes)
        self._everything = world.everything
        self._model: dict[int, int] = {}

    def refused(self, supposed: Sequence[Literal], work: Work) -> tuple[Clause, ...] | None:
        """Return clauses that stand against what is supposed; None: there is a line-up. Raises OutOfWork."""
        answer = self._prover.solve(self._everything, work, self._known(supposed))
        self._model = answer.model
        return None if answer.is_possible else self._clauses(answer.core)

    def _known(self, literals: Sequence[Literal]) -> list[Literal]:
        """Return those of which anything is said."""
        return [each for each in literals if each[0] in self._prover.domains]

    def lesson(
        self, decided: Sequence[Literal], wish: Literal, work: Work
    ) -> tuple[list[Literal], tuple[Clause, ...]] | None:
        """Return why a wish cannot be had beside what is decided: a clause, and what it follows from.

        None: it can. What is decided must be possible by itself. Raises OutOfWork.
        """
        known = self._known((*decided, wish))
        if wish not in known or all(map(self._fits, known)):
            return None
        answer = self._prover.solve(self._everything, work, known)
        if answer.is_possible:
            self._model = answer.model
            return None
        failed = {known[place] for place in answer.failed} | {wish}
        literals: dict[int, int] = {}
        for number, mask in failed:
            full = (1 << self._sizes[number]) - 1
            literals[number] = literals.get(number, 0) | full & ~mask
        return list(literals.items()), self._clauses(answer.core)

    def _fits(self, literal: Literal) -> bool:
        return bool(self._model.get(literal[0], 0) & literal[1])

    def _clauses(self, bits: int) -> tuple[Clause, ...]:
        return tuple(clause for bit in bits_of(bits) for clause in self._clauses_of[bit])
