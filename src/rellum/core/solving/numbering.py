"""Clauses by the statements that they stand for: a card may say one thing in several clauses."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from rellum.core.solving.causes import Cause
from rellum.core.solving.clauses import Clause, Literal


class NumberedClauses(NamedTuple):
    """Clauses, each with the number of its statement, and the statements."""

    clauses: list[tuple[int, list[Literal]]]
    causes: list[Cause]

    @property
    def everything(self) -> int:
        """The bits of all statements."""
        return (1 << len(self.causes)) - 1


def numbered(clauses: Iterable[Clause]) -> NumberedClauses:
    """Number the statements of some clauses, in the order in which they come."""
    numbers: dict[int, int] = {}
    found = NumberedClauses([], [])
    for clause in clauses:
        cause = clause.cause
        number = numbers.get(id(cause), -1)
        if number < 0:
            assert isinstance(cause, Cause)
            number = numbers[id(cause)] = len(found.causes)
            found.causes.append(cause)
        found.clauses.append((number, clause.literals))
    return found
