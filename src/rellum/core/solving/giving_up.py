"""The fewest wants without which there is a line-up, found exactly.

A smallest set that hits every reason (Reiter, "A theory of diagnosis from first principles", 1987): reasons
are looked for only as long as one is not yet hit.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable
from contextlib import suppress

from rellum.core.solving import causes
from rellum.core.solving.bits import bits_of
from rellum.core.solving.clauses import Clause
from rellum.core.solving.numbering import numbered
from rellum.core.solving.problem import Problem, Want
from rellum.core.solving.prover import OutOfWork, Prover, Work
from rellum.core.solving.reasons import SMALL
from rellum.core.solving.refusal import QUICKLY, without
from rellum.core.solving.search import Found, NotFound, Searcher
from rellum.core.values.ids import ModId

MOST_TO_GIVE_UP = 6
MOST_REASONS = 60
"""So many reasons are looked for before it is said that giving up a few wants does not help."""
_UNBOUNDED = 1 << 62
Mods = frozenset[ModId]
Against = Callable[[Mods], "Mods | None"]
"""Tells which wants stand against each other without some; None: there is a line-up then."""


def fewest_to_give_up(searcher: Searcher, problem: Problem) -> tuple[Want, ...] | None:
    """Return the fewest wants without which there is a line-up; of several such the last wanted.

    None where it would take more than a few, or where dropping wants does not help. Raises OutOfWork where
    the searcher's work does not suffice.
    """
    is_small = searcher.clauses <= SMALL and all(
        each.mod in searcher.rules.mods for each in problem.wants
    )
    against = _proving(searcher, problem) if is_small else _searching(searcher, problem)
    reasons: list[Mods] = []
    while True:
        hit = _smallest_hit(reasons, [want.mod for want in problem.wants])
        if hit is None:
            return None
        wants = against(frozenset(hit))
        if wants is None:
            dropped = tuple(want for want in problem.wants if want.mod in hit)
            if not is_small or isinstance(searcher.search(without(problem, *dropped)), Found):
                return dropped
            against = _proving(searcher, problem)  # the search met a circle in the load order
            continue
        if not wants or len(reasons) == MOST_REASONS:
            return None
        reasons.append(wants)


def _searching(searcher: Searcher, problem: Problem) -> Against:
    """Ask the search, which makes the clauses that a question takes."""

    def against(dropped: Mods) -> Mods | None:
        gone = [want for want in problem.wants if want.mod in dropped]
        found = searcher.search(without(problem, *gone))
        if isinstance(found, Found):
            return None
        return _in_proof(searcher, found)

    return against


def _in_proof(searcher: Searcher, not_found: NotFound) -> Mods:
    """Return wants that cannot be met together: of those in a proof as few as little work leaves."""
    searcher.spend(len(not_found.clauses))
    world = numbered(not_found.clauses)
    of_mod: dict[ModId, int] = defaultdict(int)
    for at, cause in enumerate(world.causes):
        if (mod := _wanted(cause)) is not None:
            of_mod[mod] |= 1 << at
    core, work = world.everything, Work(QUICKLY)
    with suppress(OutOfWork):
        prover = Prover(world.clauses, searcher.engine.sizes)
        core = prover.solve(core, work).core
        for bits in reversed(of_mod.values()):
            if core & bits:
                core = prover.solve(core & ~bits, work).core or core
    return frozenset(mod for mod, bits in of_mod.items() if core & bits)


def _proving(searcher: Searcher, problem: Problem) -> Against:
    """Ask a prover that has all clauses, and learns from one question for the next."""
    searcher.search(problem)  # so that all clauses are made
    supposed = [
        Clause([(each.number, each.mask)], each.cause) for each in searcher.suppose(problem)
    ]
    world = numbered((*supposed, *searcher.engine.given()))
    prover = Prover(world.clauses, searcher.engine.sizes)
    of_want = [(at, mod) for at, cause in enumerate(world.causes) if (mod := _wanted(cause))]
    work = searcher.work or Work(_UNBOUNDED)

    def against(dropped: Mods) -> Mods | None:
        off = sum(1 << at for at, mod in of_want if mod in dropped)
        core = prover.solve(world.everything & ~off, work).core
        return frozenset(_wants_in(core, world.causes)) if core else None

    return against


def _wanted(cause: object) -> ModId | None:
    return cause.want.mod if isinstance(cause, (causes.Wanted, causes.OptionWanted)) else None


def _wants_in(core: int, statements: list[causes.Cause]) -> Iterable[ModId]:
    for bit in bits_of(core):
        if (mod := _wanted(statements[bit])) is not None:
            yield mod


def _smallest_hit(reasons: list[frozenset[ModId]], order: list[ModId]) -> set[ModId] | None:
    """Return a smallest set with a member in each reason; of several the latest in the order."""
    rank = {mod: position for position, mod in enumerate(order)}

    def hit(left: list[frozenset[ModId]], size: int) -> set[ModId] | None:
        if not left:
            return set()
        if not size:
            return None
        for mod in sorted(left[0], key=rank.__getitem__, reverse=True):
            rest = hit([each for each in left if mod not in each], size - 1)
            if rest is not None:
                return rest | {mod}
        return None

    found = (hit(reasons, size) for size in range(MOST_TO_GIVE_UP + 1))
    return next((each for each in found if each is not None), None)
