"""When there is no line-up: a short set of statements that cannot all hold, and what is known of others."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from rellum.core.solving import causes
from rellum.core.solving.causes import Cause
from rellum.core.solving.clauses import Clause
from rellum.core.solving.problem import Problem, Want
from rellum.core.solving.prover import Work
from rellum.core.solving.reasons import find_reasons, reduced
from rellum.core.solving.search import NotFound, Searcher
from rellum.core.solving.variables import ModVariable
from rellum.core.values.ids import ModId

THOROUGH = 3_000_000
"""The work on one reason among many, in looks at clauses: some seconds at most."""
LEAST = 1_500_000
"""The work on the reason of a refusal, at least: about a second."""


@dataclass(frozen=True, slots=True)
class Reason:
    """Statements that cannot all be met; ``is_minimal``: without any one of them they can."""

    causes: tuple[Cause, ...]
    is_minimal: bool = True

    @property
    def wants(self) -> tuple[Want, ...]:
        """The wants that have a part in it."""
        found = [each.want for each in self.causes if isinstance(each, causes.Wanted)]
        return tuple(found)


@dataclass(frozen=True, slots=True, kw_only=True)
class Refusal:
    """There is no line-up: a reason, and the others that were found.

    is_complete: these are all the reasons that there are; so the shortest one known is the shortest
    alone: wanted mods that are impossible without the other wants, as far as that was looked for
    least: how many statements the shortest of all reasons has, where that was proven
    """

    reason: Reason
    others: tuple[Reason, ...] = ()
    is_complete: bool = False
    alone: tuple[ModId, ...] = ()
    least: int | None = None

    @property
    def wants(self) -> tuple[Want, ...]:
        """The wants that have a part in the reason."""
        return self.reason.wants

    @property
    def is_shortest_known(self) -> bool:
        """Whether no reason that was found is shorter."""
        size = len(self.reason.causes)
        return all(len(each.causes) >= size for each in self.others)

    @property
    def is_shortest(self) -> bool:
        """Whether no reason is shorter: proven, not only looked for."""
        size = len(self.reason.causes)
        return size == self.least or (self.is_complete and self.is_shortest_known)


def explain(searcher: Searcher, not_found: NotFound, patience: int = 1) -> Refusal:
    """Find a short reason for a problem without a line-up, the same on every machine.

    ``patience`` multiplies the work that is done for it: twice that of the proof, and no less than LEAST.
    """
    if any(not clause.literals for clause in not_found.clauses):
        found = tuple(_cause(clause) for clause in not_found.clauses)
        return Refusal(reason=Reason(found), is_complete=True)
    work = Work(patience * max(2 * not_found.steps, LEAST))
    knows_circles = searcher.forbid_circles()
    finder = find_reasons(searcher, not_found, work)

    def as_reason(statements: frozenset[int], is_minimal: bool) -> Reason:
        return Reason(tuple(finder.causes[at] for at in sorted(statements)), is_minimal)

    best = finder.best
    return Refusal(
        reason=as_reason(*best),
        others=tuple(as_reason(*each) for each in finder.known if each is not best),
        is_complete=finder.is_complete and knows_circles,
        alone=tuple(finder.alone),
        least=finder.least if knows_circles else None,
    )


def reason_of(searcher: Searcher, not_found: NotFound, work: Work | None = None) -> Reason:
    """Reduce what was found to stand against one another, with so much work; None: THOROUGH."""
    if any(not clause.literals for clause in not_found.clauses):
        return Reason(tuple(_cause(clause) for clause in not_found.clauses))
    searcher.spend(len(not_found.clauses))
    found, is_minimal = reduced(not_found.clauses, searcher.engine.sizes, work or Work(THOROUGH))
    return Reason(found, is_minimal)


def against(clauses: Iterable[Clause], variable: ModVariable, mask: int) -> Reason:
    """Return what of a proof speaks of a release itself: that it is not meant, or needs something.

    What a release meets anyway is left out; nothing is left where the proof is about something else, as in a
    pack that cannot be had at all.
    """
    found = tuple(
        clause.cause
        for clause in clauses
        if isinstance(clause.cause, Cause)
        and any(
            number == variable.number and not allowed & mask for number, allowed in clause.literals
        )
    )
    return Reason(found, is_minimal=False)


QUICKLY = 100_000
"""The work on a reason that is not to be told as the shortest, in looks at clauses."""


def _cause(clause: Clause) -> Cause:
    assert isinstance(clause.cause, Cause)
    return clause.cause


def without(problem: Problem, *wants: Want) -> Problem:
    """Return a problem that does not ask for some of the wants."""
    dropped = {want.mod for want in wants}
    return replace(problem, wants=tuple(each for each in problem.wants if each.mod not in dropped))
