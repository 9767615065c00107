"""Load order: what a release needs or asks to come after loads first; then the pack's order, then the id."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

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
    """Return the releases in load order. Raises LoadCycle, which shows the cycle.

    The pack's order (then the id) is followed, and whatever a release must load after is loaded
    just before it. Iterative, so that a long chain meets no recursion limit.
    """
    by_mod = {release.mod: release for release in releases}
    rank = {mod: position for position, mod in enumerate(pack_order)}

    def sorted_mods(mods: Iterable[ModId]) -> list[ModId]:
        return sorted(mods, key=lambda mod: (rank.get(mod, len(rank)), mod))

    earlier = {release.mod: sorted_mods(_loads_after(release, by_mod)) for release in releases}
    order: dict[ModId, Release] = {}
    for start in sorted_mods(by_mod):
        waiting = {start: iter(earlier[start])}
        while waiting:
            mod = next(reversed(waiting))
            before = next((each for each in waiting[mod] if each not in order), None)
            if before is None:
                order[mod] = by_mod[mod]
                del waiting[mod]
            elif before in waiting:
                raise _cycle_error([*waiting], before, by_mod)
            else:
                waiting[before] = iter(earlier[before])
    return tuple(order.values())


def _loads_after(release: Release, by_mod: dict[ModId, Release]) -> set[ModId]:
    wished = {need.mod for need in release.needs} | set(release.load_after)
    wished |= {other.mod for other in by_mod.values() if release.mod in other.load_before}
    return {mod for mod in wished if mod in by_mod and mod != release.mod}


def _cycle_error(path: list[ModId], back_to: ModId, by_mod: dict[ModId, Release]) -> LoadCycle:
    cycle = path[path.index(back_to) :]
    details = tuple(
        f"{one} loads after {two}  ({place_of(by_mod[one].source)})"
        for one, two in zip(cycle, [*cycle[1:], cycle[0]], strict=True)
    )
    return LoadCycle(
        f"no load order exists: {' after '.join([*cycle, cycle[0]])}",
        details=details,
        hint="Take one of these hints or needs out of its card, or drop one of the mods.",
    )
