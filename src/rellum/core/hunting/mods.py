"""The mods of a pack and their needs: which sets of them can be laid at all."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import cached_property

ModSet = frozenset[str]


class PackMods:
    """The mods of a pack in a chain: every prefix of it has all that it needs.

    ``order`` is the load order; ``needs`` names for each mod those of the pack that it needs (of
    alternatives, one that is in it).
    """

    def __init__(self, order: Iterable[str], needs: Mapping[str, Iterable[str]]) -> None:
        self.needs = {mod: frozenset(needs.get(mod, ())) for mod in order}
        self.needs = {mod: found & self.needs.keys() for mod, found in self.needs.items()}
        self.chain = tuple(self._chained())
        self.all = frozenset(self.chain)

    def _chained(self) -> list[str]:
        """Return the load order with needs pulled before who needs them; a circle is taken as it comes."""
        found: dict[str, None] = {}
        for first in self.needs:
            waiting = [(first, iter(sorted(self.needs[first])))]
            begun = {first}
            while waiting:
                mod, rest = waiting[-1]
                need = next(
                    (each for each in rest if each not in found and each not in begun), None
                )
                if need is None:
                    found[mod] = None
                    waiting.pop()
                else:
                    begun.add(need)
                    waiting.append((need, iter(sorted(self.needs[need]))))
        return list(found)

    @cached_property
    def needed_by(self) -> dict[str, ModSet]:
        """For each mod those that need it, directly or not."""
        found: dict[str, set[str]] = {mod: set() for mod in self.chain}
        for mod in self.chain:
            for need in self.close([mod]):
                if need != mod:
                    found[need].add(mod)
        return {mod: frozenset(each) for mod, each in found.items()}

    def close(self, mods: Iterable[str]) -> ModSet:
        """Return mods with all that they need."""
        found: set[str] = set()
        waiting = list(mods)
        while waiting:
            mod = waiting.pop()
            if mod not in found:
                found.add(mod)
                waiting += self.needs[mod]
        return frozenset(found)

    def core(self, mods: Iterable[str]) -> ModSet:
        """Return what is left of mods once those go that lack a need, again and again."""
        found = set(mods)
        while lacking := [mod for mod in found if not self.needs[mod] <= found]:
            found.difference_update(lacking)
        return frozenset(found)

    def without(self, mods: ModSet, culprit: str) -> ModSet:
        """Return mods without one, and without those that need it."""
        return self.core(mods - {culprit})
