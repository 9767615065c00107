"""Load order: what a release needs or asks to come after loads first; then the pack's order, then the id."""

from __future__ import annotations

import heapq
from collections.abc import Sequence

from rellum.core.catalog.model import Release
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import NoAnswer
from rellum.core.ids import ModId


class LoadCycle(NoAnswer):
    """Some releases each ask to load after the other."""

    code = "load-cycle"


def sort_for_loading(
    releases: Sequence[Release], pack_order: Sequence[ModId]
) -> tuple[Release, ...]:
    """Return the releases in load order. Raises LoadCycle, which shows the cycle."""
    by_mod = {release.mod: release for release in releases}
    rank = {mod: position for position, mod in enumerate(pack_order)}
    earlier = {release.mod: _loads_after(release, by_mod) for release in releases}
    later: dict[ModId, list[ModId]] = {mod: [] for mod in by_mod}
    for mod, befores in earlier.items():
        for before in befores:
            later[before].append(mod)
    open_count = {mod: len(befores) for mod, befores in earlier.items()}
    ready = [(rank.get(mod, len(rank)), mod) for mod, count in open_count.items() if count == 0]
    heapq.heapify(ready)
    order: list[Release] = []
    while ready:
        _, mod = heapq.heappop(ready)
        order.append(by_mod[mod])
        for follower in later[mod]:
            open_count[follower] -= 1
            if open_count[follower] == 0:
                heapq.heappush(ready, (rank.get(follower, len(rank)), follower))
    if len(order) < len(by_mod):
        raise _cycle_error(
            {mod: earlier[mod] for mod, count in open_count.items() if count}, by_mod
        )
    return tuple(order)


def _loads_after(release: Release, by_mod: dict[ModId, Release]) -> set[ModId]:
    wished = {need.mod for need in release.needs} | set(release.load_after)
    wished |= {other.mod for other in by_mod.values() if release.mod in other.load_before}
    return {mod for mod in wished if mod in by_mod and mod != release.mod}


def _cycle_error(stuck: dict[ModId, set[ModId]], by_mod: dict[ModId, Release]) -> LoadCycle:
    mod = min(stuck)
    path: list[ModId] = []
    while mod not in path:
        path.append(mod)
        mod = min(each for each in stuck[mod] if each in stuck)
    cycle = path[path.index(mod) :]
    details = tuple(
        f"{one} loads after {two}  ({place_of(by_mod[one].source)})"
        for one, two in zip(cycle, [*cycle[1:], cycle[0]], strict=True)
    )
    return LoadCycle(
        f"no load order exists: {' after '.join([*cycle, cycle[0]])}",
        details=details,
        hint="Take one of these hints or needs out of its card, or drop one of the mods.",
    )
