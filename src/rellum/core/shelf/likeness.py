"""Which release an archive probably is, if no hash is known: by name, size and content.

Each trait gives points out of 100; what is offered is a guess until somebody states it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Final

from rellum.core.archives.model import Member
from rellum.core.catalog.model import Catalog, Release
from rellum.core.catalog.release_rules import PlaceRule
from rellum.core.globs import fixed_start
from rellum.core.values.ids import ModId
from rellum.core.versions.version import Version

WORTH_TELLING: Final = 35
"""Fewer points than this are no better than none."""

_SAME_SIZE, _SAME_NAME, _MOD_NAME, _VERSION, _SHAPE = 30, 45, 25, 20, 25
_MOST: Final = 95  # only a hash, or the curator, is sure


@dataclass(frozen=True, slots=True, kw_only=True)
class Likely:
    """A release that an archive may be: ``points`` of 100, and the traits that speak for it.

    ``may_be_stated``: its card leaves room for it, as it states no hash of a file.
    """

    mod: ModId
    version: Version
    build: str
    points: int
    traits: tuple[str, ...]
    may_be_stated: bool = True

    @property
    def label(self) -> str:
        """The release as ``--as`` takes it."""
        build = f" ({self.build})" if self.build else ""
        return f"{self.mod}@{self.version}{build}"

    @property
    def certainty(self) -> str:
        """How sure it is, in words."""
        return "very likely" if self.points >= 75 else "likely" if self.points >= 55 else "perhaps"


def likeliest(
    catalog: Catalog, name: str, size: int, members: Sequence[Member], most: int = 3
) -> list[Likely]:
    """Return the releases that an archive may be, the likeliest first."""
    found = [
        _likeness(release, name, size, members)
        for mod in catalog.mods.values()
        for release in mod.releases
    ]
    worth = [each for each in found if each.points >= WORTH_TELLING]
    return sorted(worth, key=lambda each: -each.points)[:most]


def _likeness(release: Release, name: str, size: int, members: Sequence[Member]) -> Likely:
    points, traits = 0, []
    for count, trait in _traits(release, name, size, members):
        points += count
        traits.append(trait)
    return Likely(
        mod=release.mod,
        version=release.version,
        build=release.build,
        points=min(points, _MOST),
        traits=tuple(traits),
        may_be_stated=any(not (file.sha256 or file.blake3) for file in release.all_files),
    )


def _traits(
    release: Release, name: str, size: int, members: Sequence[Member]
) -> Iterator[tuple[int, str]]:
    if any(file.name.casefold() == name.casefold() for file in release.all_files):
        yield _SAME_NAME, "the file's name"
    elif _spells(name, release.mod):
        yield _MOD_NAME, "the mod's name"
    if release.version.text and _has_version(name, release.version.text):
        yield _VERSION, "the version in the name"
    if any(file.size == size for file in release.all_files):
        yield _SAME_SIZE, "the size"
    if members and release.places and all(_fits(rule, members) for rule in release.places):
        yield _SHAPE, "the shape of its content"


def _spells(name: str, mod: str) -> bool:
    return re.sub(r"[^a-z0-9]", "", mod) in re.sub(r"[^a-z0-9]", "", name.lower())


def _has_version(name: str, version: str) -> bool:
    """Whether a name holds a version, with any signs between its numbers: ``3_2`` is ``3.2``."""
    numbers = re.findall(r"\d+|[a-z]+", version.lower())
    pattern = r"(?<![0-9])" + r"[^a-z0-9]*".join(map(re.escape, numbers)) + r"(?![0-9])"
    found = re.search(pattern, name.lower())
    # 3.2 is not in 3.2.4.
    return found is not None and not re.match(r"[._-]\d", name.lower()[found.end() :])


def _fits(rule: PlaceRule, members: Sequence[Member]) -> bool:
    """Whether what a rule takes and expects is somewhere in the archive."""
    fixed = fixed_start(rule.take)
    wanted = [fixed + each for each in rule.expect] or [fixed]
    paths = [f"/{member.path}" for member in members]
    return all(
        any(
            f"/{each}" in path if each.endswith("/") else path.endswith(f"/{each}")
            for path in paths
        )
        if each
        else True
        for each in wanted
    ) and bool(fixed or rule.expect)
