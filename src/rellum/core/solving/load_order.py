"""Load order: what cards say binds; then needs, the pack's order, the id.

What a release must load after or before, by its card, is a *hint* and binds. Hints that run in a circle
rule the releases out that give them (the search sees to that). A need alone asks to load later than what is
needed, as far as that goes: two mods that need each other can be had.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from rellum.core.catalog.model import Release
from rellum.core.values.ids import ModId

_ENDS = {"first": 0, "": 1, "last": 2}
After = Mapping[ModId, set[ModId]]
"""For each mod, those that it loads after."""


class Hint(NamedTuple):
    """That a mod loads after another one; ``by_later``: its own card says so, else the other's does."""

    later: ModId
    earlier: ModId
    by_later: bool

    @property
    def said_by(self) -> ModId:
        """The mod whose card says it."""
        return self.later if self.by_later else self.earlier


def hints_of(by_mod: Mapping[ModId, Release]) -> Iterator[Hint]:
    """Yield what the cards of some releases say about the order among them."""
    for mod, release in by_mod.items():
        for other in release.load_after:
            if other in by_mod and other != mod:
                yield Hint(mod, other, True)
        for other in release.load_before:
            if other in by_mod and other != mod and mod not in by_mod[other].load_after:
                yield Hint(other, mod, False)


def find_circle(by_mod: Mapping[ModId, Release]) -> tuple[Hint, ...]:
    """Return hints that run in a circle, the fewest, of several the first by id; none: an order exists."""
    hints: dict[ModId, dict[ModId, Hint]] = {}
    for hint in sorted(hints_of(by_mod)):
        hints.setdefault(hint.later, {})[hint.earlier] = hint
    if not hints:
        return ()
    in_circles = [
        mod
        for group in components({mod: hints.keys() & earlier for mod, earlier in hints.items()})
        if len(group) > 1
        for mod in group
    ]
    circles = (_way_round(hints, mod) for mod in sorted(in_circles))
    return min(circles, key=len, default=())


def _way_round(hints: Mapping[ModId, Mapping[ModId, Hint]], start: ModId) -> tuple[Hint, ...]:
    """Return the shortest way from a mod back to it."""
    ways: dict[ModId, tuple[Hint, ...]] = {start: ()}
    waiting = deque([start])
    while waiting:
        mod = waiting.popleft()
        for other, hint in hints.get(mod, {}).items():
            if other == start:
                return (*ways[mod], hint)
            if other not in ways:
                ways[other] = (*ways[mod], hint)
                waiting.append(other)
    raise AssertionError(f"{start} is in no circle")


def sort_for_loading(
    releases: Sequence[Release], pack_order: Sequence[ModId]
) -> tuple[Release, ...]:
    """Return the releases in load order; their hints must not run in a circle.

    The pack's order (then the id) is followed, and whatever a release must load after is loaded
    just before it. Those that ask to load first stand before all others and those that ask to load
    last after them, as far as needs and hints allow. Iterative, so that a long chain meets no recursion
    limit.
    """
    by_mod = {release.mod: release for release in releases}
    rank = {mod: position for position, mod in enumerate(pack_order)}
    in_order = sorted(
        by_mod, key=lambda mod: (_ENDS[by_mod[mod].load_end], rank.get(mod, len(rank)), mod)
    )
    place = {mod: position for position, mod in enumerate(in_order)}

    def sorted_mods(mods: Iterable[ModId]) -> list[ModId]:
        return sorted(mods, key=place.__getitem__)

    bound: dict[ModId, set[ModId]] = {mod: set() for mod in by_mod}
    for hint in hints_of(by_mod):
        bound[hint.later].add(hint.earlier)
    needed = _needed(by_mod)
    after = {mod: bound[mod] | needed[mod] for mod in by_mod}
    groups = [sorted_mods(each) for each in components(after)]
    group_of = {mod: number for number, group in enumerate(groups) for mod in group}
    earlier = [
        sorted_mods({other for mod in group for other in after[mod]} - set(group))
        for group in groups
    ]
    order: list[ModId] = []
    done: set[int] = set()
    for start in in_order:
        waiting = (
            {} if group_of[start] in done else {group_of[start]: iter(earlier[group_of[start]])}
        )
        while waiting:
            number = next(reversed(waiting))
            before = next(
                (g for each in waiting[number] if (g := group_of[each]) not in done), None
            )
            if before is None:
                group = groups[number]
                order += group if len(group) == 1 else _within(group, bound, needed)
                done.add(number)
                del waiting[number]
            else:
                waiting[before] = iter(earlier[before])
    return tuple(by_mod[mod] for mod in order)


def _within(group: Sequence[ModId], bound: After, needed: After) -> Iterator[ModId]:
    """Yield mods that need each other: hints are followed, and of needs as many as can be."""
    left = list(group)
    while left:
        rest = set(left)
        free = [mod for mod in left if not bound[mod] & rest]
        mod = min(free, key=lambda each: len(needed[each] & rest - {each}))
        left.remove(mod)
        yield mod


def _needed(by_mod: Mapping[ModId, Release]) -> dict[ModId, set[ModId]]:
    """Return for each mod what it needs of those that are there, and what stands in for that."""
    stand_ins: dict[ModId, set[ModId]] = {}
    for release in by_mod.values():
        for offer in release.offers:
            stand_ins.setdefault(offer.mod, set()).add(release.mod)
    found = {}
    for release in by_mod.values():
        needed = {each.mod for need in release.needs for each in need.any_of}
        for mod in [*needed]:
            needed |= stand_ins.get(mod, set())
        found[release.mod] = {mod for mod in needed if mod in by_mod and mod != release.mod}
    return found


def components(after: After) -> Iterator[list[ModId]]:
    """Yield the strongly connected components of a graph (Tarjan, 1972), iteratively, in no certain order."""
    index: dict[ModId, int] = {}
    low: dict[ModId, int] = {}
    stack: list[ModId] = []
    on_stack: set[ModId] = set()
    for root in after:
        path = [] if root in index else [(root, iter(after[root]))]
        while path:
            mod, others = path[-1]
            if mod not in index:
                index[mod] = low[mod] = len(index)
                stack.append(mod)
                on_stack.add(mod)
            following = next(
                (each for each in others if each not in index or each in on_stack), None
            )
            if following is None:
                path.pop()
                if path:
                    above = path[-1][0]
                    low[above] = min(low[above], low[mod])
                if low[mod] == index[mod]:
                    group: list[ModId] = []
                    while not group or group[-1] != mod:
                        group.append(stack.pop())
                    on_stack.difference_update(group)
                    yield group
            elif following in index:
                low[mod] = min(low[mod], index[following])
            else:
                path.append((following, iter(after[following])))
