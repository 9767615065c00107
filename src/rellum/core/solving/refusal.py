"""When there is no line-up: the fewest statements that cannot all hold, and how many such sets there are.

Of several reasons, the one with the fewest statements is shown. Others are looked for by leaving out
one want of each reason found, and one statement, so that of two chains between the same wants the
shorter one is shown. In a large catalog only one more is looked for, without all wants of the first.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from rellum.core.solving import causes
from rellum.core.solving.causes import Cause
from rellum.core.solving.core import shrink, shrink_quickly
from rellum.core.solving.engine import Clause
from rellum.core.solving.problem import Problem, Want
from rellum.core.solving.search import NotFound, Searcher

MOST_REASONS = 12
"""So many reasons are looked for; then it is said that there may be more."""
SMALL = 3_000
"""A world of at most so many clauses is small: it is rebuilt for each statement left out."""
THOROUGH = 400
"""A reason of up to so many statements is reduced to the last one that can be left out. A longer one
would take longer than anybody waits, and nobody reads it to its end."""


@dataclass(frozen=True, slots=True)
class Reason:
    """Statements that cannot all be met; without any one of them they can."""

    causes: tuple[Cause, ...]

    @property
    def wants(self) -> tuple[Want, ...]:
        """The wants that have a part in it."""
        found = [each.want for each in self.causes if isinstance(each, causes.Wanted)]
        return tuple(found)

    @property
    def names(self) -> frozenset[object]:
        """What it is made of, comparable with the reasons of another searcher."""
        return frozenset(each.name for each in self.causes)


@dataclass(frozen=True, slots=True, kw_only=True)
class Refusal:
    """There is no line-up: the smallest reason found, and the others."""

    reason: Reason
    others: tuple[Reason, ...]
    may_be_more: bool

    @property
    def wants(self) -> tuple[Want, ...]:
        """The wants that have a part in the smallest reason."""
        return self.reason.wants


def explain(searcher: Searcher, problem: Problem, not_found: NotFound) -> Refusal:
    """Find the smallest reason for a problem without a line-up."""
    first = reason_of(searcher, not_found)
    found: dict[frozenset[object], Reason] = {first.names: first}
    waiting = [(problem, first)]
    is_small = searcher.clauses <= SMALL
    while waiting and len(found) < (MOST_REASONS if is_small else 2):
        asked, reason = waiting.pop(0)
        others = _others if is_small else _another
        for fewer, other in others(searcher, asked, reason):
            if other.names not in found:
                found[other.names] = other
                waiting.append((fewer, other))
    reasons = sorted(found.values(), key=lambda each: len(each.causes))
    return Refusal(
        reason=reasons[0],
        others=tuple(reasons[1:]),
        may_be_more=bool(waiting) and len(found) > 1,
    )


def wants_against_each_other(searcher: Searcher, not_found: NotFound) -> tuple[Want, ...]:
    """Return wants that cannot be met together; few as a rule, but perhaps not the fewest."""
    core = not_found.clauses
    if all(clause.literals for clause in core):
        core = shrink_quickly(core, searcher.engine.sizes)
    found = [clause.cause.want for clause in core if isinstance(clause.cause, causes.Wanted)]
    return tuple(found)


def reason_of(searcher: Searcher, not_found: NotFound, most: int = THOROUGH) -> Reason:
    """Reduce what was found to stand against one another; less thoroughly above so many clauses."""
    if any(not clause.literals for clause in not_found.clauses):
        return Reason(tuple(_cause(clause) for clause in not_found.clauses))
    # What stands first is left out first: wants last, as what they need makes a longer chain.
    ordered = sorted(not_found.clauses, key=lambda clause: isinstance(clause.cause, _OF_THE_PACK))
    core = shrink_quickly(ordered, searcher.engine.sizes)
    if len(core) <= most:
        core = shrink(core, searcher.engine.sizes)
    return Reason(tuple(_cause(clause) for clause in core))


_OF_THE_PACK = (causes.Wanted, causes.OptionWanted, causes.Held, causes.Supposed)


def _cause(clause: Clause) -> Cause:
    assert isinstance(clause.cause, Cause)
    return clause.cause


def _others(
    searcher: Searcher, problem: Problem, reason: Reason
) -> Iterator[tuple[Problem, Reason]]:
    """Yield reasons that stay without one want, or without one statement, of a reason."""
    for want in reason.wants:
        fewer = without(problem, want)
        again = searcher.search(fewer)
        if isinstance(again, NotFound):
            yield fewer, reason_of(searcher, again)
    for cause in reason.causes:
        if isinstance(cause, causes.OfReleases):
            other = Searcher(problem, ignored=searcher.ignored | {cause.name})
            again = other.search(problem)
            if isinstance(again, NotFound):
                yield problem, reason_of(other, again)


def _another(
    searcher: Searcher, problem: Problem, reason: Reason
) -> Iterator[tuple[Problem, Reason]]:
    """Yield a reason that stays without all wants of a reason."""
    fewer = without(problem, *reason.wants)
    again = searcher.search(fewer)
    if isinstance(again, NotFound):
        yield fewer, reason_of(searcher, again, most=100)


def without(problem: Problem, *wants: Want) -> Problem:
    """Return a problem that does not ask for some of the wants."""
    dropped = {want.mod for want in wants}
    return replace(problem, wants=tuple(each for each in problem.wants if each.mod not in dropped))
