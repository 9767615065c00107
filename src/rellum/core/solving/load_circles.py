"""All circles in which hints about the load order may run, whichever releases are taken.

A search finds a circle when it comes to a line-up that has it. Who lists all reasons against a pack must know
them beforehand.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from typing import Final

from rellum.core.catalog.terms import LoadTerm
from rellum.core.solving.load_order import Hint, components
from rellum.core.values.ids import ModId

_MOST_CIRCLES: Final = 200
_MOST_STEPS: Final = 20_000

Circle = tuple[Hint, ...]


def all_circles(terms: Mapping[ModId, Sequence[LoadTerm]]) -> tuple[list[Circle], bool]:
    """Return the circles of hints that some of these mods' releases may give, and whether these are all.

    No mod is twice in one. At most 200 are sought.
    """
    hints: dict[ModId, set[Hint]] = defaultdict(set)
    for mod, its_terms in terms.items():
        for _, other, is_after in its_terms:
            if other in terms and other != mod:
                hint = Hint(mod, other, True) if is_after else Hint(other, mod, False)
                hints[hint.later].add(hint)
    graph = {mod: {each.earlier for each in told} & hints.keys() for mod, told in hints.items()}
    found: list[Circle] = []
    steps = 0
    for group in sorted(sorted(each) for each in components(graph) if len(each) > 1):
        for number, start in enumerate(group):
            allowed = set(group[number:])  # each circle is found from the first of its mods alone
            paths: list[Circle] = [(hint,) for hint in sorted(hints[start])]
            while paths:
                path = paths.pop()
                steps += 1
                if len(found) == _MOST_CIRCLES or steps > _MOST_STEPS:
                    return found, False
                mod = path[-1].earlier
                if mod == start:
                    found.append(path)
                elif mod in allowed and mod not in {each.later for each in path}:
                    paths += [(*path, hint) for hint in sorted(hints[mod], reverse=True)]
    return found, True
