"""From clauses that cannot all hold to a minimal set that cannot.

First the clauses are searched again by themselves, as long as that leaves some out; then each is left
out in turn and put back only where the rest can hold without it (deletion-based extraction of a
minimal unsatisfiable subset). What stays is minimal: without any one of them the others hold.
"""

from __future__ import annotations

from collections.abc import Sequence

from rellum.core.solving.engine import Clause, Engine, leaves_of


def shrink(clauses: Sequence[Clause], sizes: Sequence[int]) -> tuple[Clause, ...]:
    """Return a minimal part of the clauses that cannot hold. ``sizes`` are the variables' numbers of
    values. Those that stand first are left out first.
    """
    core = list(shrink_quickly(clauses, sizes))
    at = 0
    while at < len(core):
        rest = _conflicting(core[:at] + core[at + 1 :], sizes)
        if rest is None:
            at += 1
        else:
            core = rest
    return tuple(core)


def shrink_quickly(clauses: Sequence[Clause], sizes: Sequence[int]) -> tuple[Clause, ...]:
    """Return a part of the clauses that cannot hold: short as a rule, but not always minimal."""
    core = list(clauses)
    while True:
        smaller = _conflicting(core, sizes)
        assert smaller is not None
        if len(smaller) >= len(core):
            return tuple(core)
        core = smaller


def _conflicting(clauses: Sequence[Clause], sizes: Sequence[int]) -> list[Clause] | None:
    """Return those of the clauses that were needed to see that they cannot hold; None: they can."""
    engine = Engine()
    numbers: dict[int, int] = {}
    for clause in clauses:
        for variable, _ in clause.literals:
            if variable not in numbers:
                numbers[variable] = engine.add_variable(sizes[variable])
    # The plainest first: what contradicts itself in two words is seen before any chain.
    for clause in sorted(clauses, key=lambda each: len(each.literals)):
        engine.add([(numbers[variable], mask) for variable, mask in clause.literals], clause)
    while True:
        conflict = engine.propagate()
        if conflict is not None:
            conflict = engine.learn(conflict)
            if conflict is not None:
                used = {id(leaf.cause) for leaf in leaves_of(engine.trace(conflict))}
                return [clause for clause in clauses if id(clause) in used]
            continue
        undecided = next((n for n, domain in enumerate(engine.domains) if domain & domain - 1), -1)
        if undecided < 0:
            return None
        domain = engine.domains[undecided]
        engine.decide(undecided, domain & -domain)
