"""Load order: hints and needs first, then the pack's order, then the id."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from rellum.core.catalog.model import Release
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import NoAnswer
from rellum.core.values.ids import ModId

_ENDS = {"first": 0, "": 1, "last": 2}


class LoadCycle(NoAnswer):
    """Some releases each ask to load after the other."""

    code = "load-cycle"


def sort_for_loading(
    releases: Sequence[Release], pack_order: Sequence[ModId]
) -> tuple[Release, ...]:
    """Return the releases in load order. Raises LoadCycle, which shows the cycle.

    The pack's order (then the id) is followed, and whatever a release must load after is loaded
    just before it. Those that ask to load first stand before all others and those that ask to load
    last after them, as far as needs and "after" and "before" allow. Iterative, so that a long chain
    meets no recursion limit.
    """
    by_mod = {release.mod: release for release in releases}
    rank = {mod: position for position, mod in enumerate(pack_order)}

    def sorted_mods(mods: Iterable[ModId]) -> list[ModId]:
        return sorted(
            mods,
            key=lambda mod: (_ENDS[by_mod[mod].load_end], rank.get(mod, len(rank)), mod),
        )

    after = _loads_after(by_mod)
    earlier = {mod: sorted_mods(others) for mod, others in after.items()}
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


def _loads_after(by_mod: dict[ModId, Release]) -> dict[ModId, set[ModId]]:
    """Return what each mod loads after: what it needs or names, and what names it."""
    after: dict[ModId, set[ModId]] = {}
    stand_ins: dict[ModId, set[ModId]] = {}
    for release in by_mod.values():
        for offer in release.offers:
            stand_ins.setdefault(offer.mod, set()).add(release.mod)
    for release in by_mod.values():
        needed = {each.mod for need in release.needs for each in need.any_of}
        for mod in [*needed]:
            needed |= stand_ins.get(mod, set())
        named = needed | set(release.load_after)
        after[release.mod] = {mod for mod in named if mod in by_mod and mod != release.mod}
    for release in by_mod.values():
        for mod in release.load_before:
            if mod in by_mod and mod != release.mod:
                after[mod].add(release.mod)
    return after


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
