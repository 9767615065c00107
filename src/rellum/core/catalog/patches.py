"""Patches in a card: what each inherits, and what must be laid before it.

A patch names what it is laid over. That may be a full release (a cumulative patch: it takes in every
patch before it) or another patch (a stepwise one: that patch is laid first).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from rellum.core.catalog.model import Mod, Release
from rellum.core.catalog.tables import Fault
from rellum.core.nearest import nearest
from rellum.core.versions.version import Version

_INHERITED = {
    "game": ("game",),
    "editions": ("editions",),
    "expansions": ("expansions_needed", "expansions_forbidden", "expansions_used"),
    "needs": ("needs",),
    "clashes": ("clashes",),
    "offers": ("offers",),
    "made-for": ("made_for",),
    "check-by-hand": ("check_by_hand",),
    "load": ("load_after", "load_before", "load_end"),
    "carry": ("carry",),
    "settings": ("settings",),
    "obsolete": ("obsolete",),
    "play": ("plays",),
}
"""The card's keys that a patch takes from what it patches, where it does not say them itself."""


@dataclass(frozen=True, slots=True)
class Said:
    """A release as its table has it, the keys that it has, and whether its version could be read."""

    release: Release
    keys: frozenset[str]
    has_version: bool


def complete_patches(said: list[Said], faults: list[Fault]) -> list[Release]:
    """Give each patch what it inherits; note doubles, and patches of what is not there."""
    by_name: dict[tuple[Version, str], Said] = {}
    said = [each for each in said if each.has_version]
    for each in said:
        release = each.release
        name = (release.version, release.build)
        other = next((each for each in by_name if each[0] == release.version), None)
        same_table = other and by_name[other].release.source.key[:2] == release.source.key[:2]
        if name in by_name or (other and not same_table):
            faults.append(_fault(release, f"version {release.version} appears twice here"))
        by_name[name] = each
    return [_completed(each, by_name, faults) for each in said]


def _completed(
    said: Said, by_name: Mapping[tuple[Version, str], Said], faults: list[Fault]
) -> Release:
    """Follow a patch down to its full release, and take what it does not say on the way."""
    release, keys = said.release, said.keys
    below = said.release
    seen = {release.version}
    while below.patches is not None:
        base = _base(below, by_name)
        if base is None or base.release.version in seen:
            known = [str(version) for version, _ in by_name if version != release.version]
            what = "itself in the end" if base else f"{below.patches}, which is not in this card"
            words = f"'patches' names {what}" + nearest(str(below.patches), known)
            if below is said.release or base:
                faults.append(_fault(release, words, "patches"))
            return release
        below = base.release
        seen.add(below.version)
        release = _inherit(release, below, keys)
        keys |= base.keys
    return release


def _base(patch: Release, by_name: Mapping[tuple[Version, str], Said]) -> Said | None:
    assert patch.patches is not None
    found = by_name.get((patch.patches, patch.build)) or by_name.get((patch.patches, ""))
    if found:
        return found
    return next((each for (v, _), each in by_name.items() if v == patch.patches), None)


def _inherit(patch: Release, base: Release, said: frozenset[str]) -> Release:
    taken = {
        field: getattr(base, field)
        for key, fields in _INHERITED.items()
        if key not in said
        for field in fields
    }
    return replace(patch, **taken)


def release_chain(release: Release, mod: Mod) -> tuple[Release, ...]:
    """Return what is laid for a release, in order: the full release, then patch after patch."""
    chain = [release]
    while chain[0].patches is not None:
        base = mod.release_of_build(chain[0].patches, release.build)
        if base is None or base in chain:
            break
        chain.insert(0, base)
    return tuple(chain)


def release_chains(release: Release, mod: Mod) -> list[tuple[Release, ...]]:
    """Return all ways to lay a release, each as in ``release_chain``; that by patches alone first.

    Another way begins with a part of the chain that can be had in full.
    """
    chain = release_chain(release, mod)
    return [chain, *(_from_whole(chain, at) for at, part in enumerate(chain) if part.full)]


def _from_whole(chain: tuple[Release, ...], at: int) -> tuple[Release, ...]:
    part = chain[at]
    assert part.full is not None
    whole = replace(
        part,
        files=part.full.files,
        places=part.full.places,
        edits=part.full.edits,
        removes=(),
        patches=None,
        full=None,
    )
    return (whole, *chain[at + 1 :])


def _fault(release: Release, message: str, key: str = "version") -> Fault:
    return Fault(source=release.source.at(key), message=message)
