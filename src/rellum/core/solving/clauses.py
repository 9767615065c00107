"""Clauses, and how one follows from others.

A literal ``(variable, mask)`` says that the variable's value lies in the mask; a clause is an "or" over
literals of different variables. Each clause that was learned remembers those it came from: from them an
explanation is made.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol, TypeVar

Literal = tuple[int, int]
"""A variable's number, and the mask of its allowed values."""

Pair = tuple[int, int, int, int, "object | None"]
"""A clause of two literals: each one's variable and mask, and from what its cause can be told."""


class Clause:
    """An "or" over literals. ``cause`` says what it stands for, None where it was learned.

    The first two literals are the watched ones. ``parents`` are the clauses that a learned one
    follows from.
    """

    __slots__ = ("cause", "literals", "parents")

    def __init__(
        self,
        literals: list[Literal],
        cause: object | None = None,
        parents: tuple[Clause, ...] = (),
    ) -> None:
        self.literals = literals
        self.cause = cause
        self.parents = parents


class Watched(Protocol):
    """A clause, as far as watching it goes: the first two of its literals are watched."""

    literals: list[Literal]


W = TypeVar("W", bound=Watched)
W_co = TypeVar("W_co", covariant=True)


class ByNumber(Protocol[W_co]):
    """What is kept for each variable, by its number."""

    def __getitem__(self, number: int, /) -> W_co: ...


def watch_another(
    clause: W, mask: int, domains: ByNumber[int], watching: ByNumber[list[tuple[int, W]]]
) -> bool:
    """Watch a literal that is not false in place of the second one; False: there is none."""
    literals = clause.literals
    for index in range(2, len(literals)):
        number, new_mask = candidate = literals[index]
        if domains[number] & new_mask:
            variable = literals[1][0]
            literals[index], literals[1] = literals[1], candidate
            watching[number].append((new_mask, clause))
            watching[variable].remove((mask, clause))
            return True
    return False


class Resolvent:
    """A false clause that is resolved, step by step, with the clauses that made it false."""

    def __init__(self, conflict: Clause) -> None:
        self.literals = dict(conflict.literals)
        self.parents = [conflict]

    def resolve(self, reason: Clause, variable: int) -> list[int]:
        """Resolve on a variable; return the variables whose literals may have grown."""
        self.parents.append(reason)
        grown = []
        for each, mask in reason.literals:
            if each == variable:
                self.narrow(variable, mask)
            else:
                self.literals[each] = self.literals.get(each, 0) | mask
            if each in self.literals:
                grown.append(each)
        return grown

    def narrow(self, variable: int, mask: int) -> None:
        """Take the values outside the mask out of a variable's literal."""
        left = self.literals[variable] & mask
        if left:
            self.literals[variable] = left
        else:
            del self.literals[variable]

    def clause(self) -> Clause:
        """Return what was learned."""
        return Clause(list(self.literals.items()), None, tuple(self.parents))


def leaves_of(clauses: Iterable[Clause]) -> list[Clause]:
    """Return the given clauses that these follow from, each once, in a steady order."""
    found: dict[int, Clause] = {}
    seen: set[int] = set()
    waiting = list(clauses)
    while waiting:
        clause = waiting.pop()
        if id(clause) in seen:
            continue
        seen.add(id(clause))
        waiting.extend(clause.parents)
        if not clause.parents:
            found[id(clause)] = clause
    return list(found.values())
