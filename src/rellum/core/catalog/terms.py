"""The terms of a mod: on what its releases go together with the game and with other mods.

This is all that the search for a line-up reads of most mods. A mask has the bit ``1 << n`` for the mod's
n-th release, counted from 1 at the newest; what several releases say alike is one term with all of them in
its mask. Ranges that speak of another mod are looked up in its versions once, when the terms are made, so
that a search reads no version that it is not asked about.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple, Protocol

from rellum.core.catalog.model import (
    Catalog,
    Clash,
    MadeFor,
    Mod,
    Need,
    OptionGroup,
    Requirement,
)
from rellum.core.values.ids import ModId
from rellum.core.versions.ranges import Range
from rellum.core.versions.version import Key, Version

WIDEST = 63
"""The most releases of a mod whose terms are kept in 64 bits."""

MaskOf = Callable[[Requirement], int]
"""Gives the releases that a requirement means, of the mod that it names; 0 where it has no card."""


class PlainNeed(NamedTuple):
    """A need of some releases for one mod, as nearly all are, and which releases of that mod meet it."""

    mask: int
    mod: ModId
    range: str
    meets: int

    @property
    def need(self) -> Need:
        """The need as a card's reader makes it."""
        return Need((Requirement(self.mod, self.range),))


class NeedTerm(NamedTuple):
    """Any other need of some releases, and which releases of each mod that it names meet it."""

    mask: int
    need: Need
    meets: tuple[int, ...]


class ClashTerm(NamedTuple):
    """A clash of some releases, and which releases of the other mod it hits."""

    mask: int
    clash: Clash
    hits: int


class VariantTerm(NamedTuple):
    """The variants of another mod that some releases are made for."""

    mask: int
    made_for: MadeFor


class GameTerm(NamedTuple):
    """The range of game versions that some releases are for."""

    mask: int
    game: str


class EditionsTerm(NamedTuple):
    """The editions of the game that some releases are for."""

    mask: int
    editions: tuple[str, ...]


class ExpansionTerm(NamedTuple):
    """An expansion that some releases need, or forbid."""

    mask: int
    expansion: str
    is_needed: bool


class LoadTerm(NamedTuple):
    """A mod that some releases load after, or before."""

    mask: int
    other: ModId
    is_after: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class ModTerms:
    """All terms of a mod, each kind in the order in which its card says them, the newest release first.

    ``count`` is how many releases it has; ``withdrawn``, ``unfinished`` and ``prereleases`` are masks.
    """

    count: int
    games: tuple[GameTerm, ...]
    editions: tuple[EditionsTerm, ...]
    expansions: tuple[ExpansionTerm, ...]
    withdrawn: int
    unfinished: int
    prereleases: int
    plain_needs: tuple[PlainNeed, ...]
    needs: tuple[NeedTerm, ...]
    clashes: tuple[ClashTerm, ...]
    variants: tuple[VariantTerm, ...]
    load: tuple[LoadTerm, ...]
    options: tuple[OptionGroup, ...]

    @property
    def everything(self) -> int:
        """The mask of all releases."""
        return (2 << self.count) - 2


NO_TERMS = ModTerms(
    count=0,
    games=(),
    editions=(),
    expansions=(),
    withdrawn=0,
    unfinished=0,
    prereleases=0,
    plain_needs=(),
    needs=(),
    clashes=(),
    variants=(),
    load=(),
    options=(),
)
"""The terms of a mod whose card is not read yet."""


class ReleaseNames(NamedTuple):
    """The versions of a mod as its card writes them, and their builds; the newest first."""

    texts: tuple[str, ...]
    builds: tuple[str, ...]

    def mask(self, text: str, build: str) -> int:
        """Return the release that is written just so; 0 where there is none."""
        at = self.position(text, build)
        return 0 if at is None else 2 << at

    def position(self, text: str, build: str) -> int | None:
        """Return where the release stands that is written just so, counted from 0."""
        for at, each in enumerate(self.texts):
            if each == text and self.builds[at] == build:
                return at
        return None


class TermsBook(Protocol):
    """The terms of all mods of a catalog."""

    def count(self, mod: ModId) -> int:
        """Return how many releases a mod has that has a card."""

    def terms(self, mod: ModId) -> ModTerms:
        """Return the terms of a mod that has a card."""

    def names(self, mod: ModId) -> ReleaseNames:
        """Return the names of its releases."""

    def versions(self, mod: ModId) -> tuple[Version, ...]:
        """Return the versions of its releases, the newest first."""


class MadeTerms:
    """The terms of a catalog's mods, made from the mods themselves."""

    def __init__(self, catalog: Catalog) -> None:
        self._catalog = catalog
        self._keys: dict[ModId, list[Key]] = {}

    def count(self, mod: ModId) -> int:
        """Return how many releases a mod has that has a card."""
        return len(self._catalog.mods[mod].releases)

    def terms(self, mod: ModId) -> ModTerms:
        """Return the terms of a mod that has a card."""
        return make_terms(self._catalog.mods[mod], self._mask)

    def names(self, mod: ModId) -> ReleaseNames:
        """Return the names of its releases."""
        return names_of(self._catalog.mods[mod])

    def versions(self, mod: ModId) -> tuple[Version, ...]:
        """Return the versions of its releases, the newest first."""
        return tuple(each.version for each in self._catalog.mods[mod].releases)

    def _mask(self, requirement: Requirement) -> int:
        mod = requirement.mod
        if mod not in self._catalog.mods:
            return 0
        if mod not in self._keys:
            self._keys[mod] = ascending(self.versions(mod))
        return mask_in(self._catalog.range_of(requirement), self._keys[mod])


def ascending(versions: Sequence[Version]) -> list[Key]:
    """Return the keys of versions that stand newest first, the oldest first."""
    return [each.key for each in reversed(versions)]


def mask_in(range_: Range, keys: Sequence[Key]) -> int:
    """Return the releases whose versions lie in a range; ``keys`` are theirs, ascending."""
    count = len(keys)
    found = 0
    for start, stop in range_.spans(keys):
        found |= ((1 << (stop - start)) - 1) << (count - stop + 1)
    return found


def names_of(mod: Mod) -> ReleaseNames:
    """Return how a mod's releases are written."""
    texts = tuple(each.version.text for each in mod.releases)
    return ReleaseNames(texts, tuple(each.build for each in mod.releases))


def make_terms(mod: Mod, mask_of: MaskOf) -> ModTerms:
    """Return the terms of a mod."""
    games: dict[str, int] = defaultdict(int)
    editions: dict[tuple[str, ...], int] = defaultdict(int)
    expansions: dict[tuple[str, bool], int] = defaultdict(int)
    first: dict[tuple[Requirement, ...], Need] = {}
    needs: dict[tuple[Requirement, ...], int] = defaultdict(int)
    clashes: dict[Clash, int] = defaultdict(int)
    variants: dict[MadeFor, int] = defaultdict(int)
    load: dict[tuple[ModId, bool], int] = defaultdict(int)
    withdrawn = unfinished = prereleases = 0
    for at, release in enumerate(mod.releases, 1):
        bit = 1 << at
        if release.game is not None:
            games[release.game] |= bit
        if release.editions is not None:
            editions[release.editions] |= bit
        for name in release.expansions_needed:
            expansions[name, True] |= bit
        for name in release.expansions_forbidden:
            expansions[name, False] |= bit
        for need in release.needs:  # one need, wherever in a card it is listed
            first.setdefault(need.any_of, need)
            needs[need.any_of] |= bit
        for clash in release.clashes:
            clashes[clash] |= bit
        for made_for in release.made_for:
            variants[made_for] |= bit
        for other in release.load_after:
            load[other, True] |= bit
        for other in release.load_before:
            load[other, False] |= bit
        withdrawn |= bit if release.withdrawn else 0
        unfinished |= bit if release.open_lines else 0
        prereleases |= bit if release.version.is_prerelease else 0
    plain = {any_of for any_of, need in first.items() if _is_plain(need)}
    return ModTerms(
        count=len(mod.releases),
        games=tuple(GameTerm(mask, said) for said, mask in games.items()),
        editions=tuple(EditionsTerm(mask, said) for said, mask in editions.items()),
        expansions=tuple(ExpansionTerm(mask, *said) for said, mask in expansions.items()),
        withdrawn=withdrawn,
        unfinished=unfinished,
        prereleases=prereleases,
        plain_needs=tuple(
            PlainNeed(mask, *said[0], mask_of(said[0]))
            for said, mask in needs.items()
            if said in plain
        ),
        needs=tuple(
            NeedTerm(mask, first[said], tuple(map(mask_of, said)))
            for said, mask in needs.items()
            if said not in plain
        ),
        clashes=tuple(ClashTerm(mask, said, mask_of(said.other)) for said, mask in clashes.items()),
        variants=tuple(VariantTerm(mask, said) for said, mask in variants.items()),
        load=tuple(LoadTerm(mask, *said) for said, mask in load.items()),
        options=mod.options,
    )


def looked_up_again(terms: ModTerms, mask_of: MaskOf) -> ModTerms:
    """Return the terms of a mod where the versions of others may have changed."""
    return replace(
        terms,
        plain_needs=tuple(
            PlainNeed(mask, mod, range_, mask_of(Requirement(mod, range_)))
            for mask, mod, range_, _ in terms.plain_needs
        ),
        needs=tuple(
            NeedTerm(mask, need, tuple(map(mask_of, need.any_of))) for mask, need, _ in terms.needs
        ),
        clashes=tuple(
            ClashTerm(mask, clash, mask_of(clash.other)) for mask, clash, _ in terms.clashes
        ),
    )


class Interned:
    """Ids, ranges and masks that stand in many cards; each is kept once."""

    __slots__ = ("mask", "mod", "text")

    def __init__(self) -> None:
        masks: dict[int, int] = {}
        mods: dict[ModId, ModId] = {}
        texts: dict[str, str] = {}
        self.mask = masks.setdefault
        self.mod = mods.setdefault
        self.text = texts.setdefault


def interned_needs(terms: ModTerms, looked_at: int, values: Interned) -> list[PlainNeed]:
    """Return the plain needs of releases that are looked at, of values that are kept once."""
    return [
        PlainNeed(
            values.mask(mask & looked_at, mask & looked_at),
            values.mod(mod, mod),
            values.text(range_, range_),
            values.mask(meets, meets),
        )
        for mask, mod, range_, meets in terms.plain_needs
        if mask & looked_at
    ]


def narrowed(terms: ModTerms, plain_needs: Iterable[PlainNeed], looked_at: int) -> ModTerms:
    """Return the terms with these plain needs, and of the others only what releases looked at say."""
    return ModTerms(
        count=terms.count,
        games=terms.games,
        editions=terms.editions,
        expansions=terms.expansions,
        withdrawn=terms.withdrawn,
        unfinished=terms.unfinished,
        prereleases=terms.prereleases,
        plain_needs=tuple(plain_needs),
        needs=tuple(each for each in terms.needs if each.mask & looked_at),
        clashes=tuple(each for each in terms.clashes if each.mask & looked_at),
        variants=terms.variants,
        load=terms.load,
        options=terms.options,
    )


def mods_looked_up(terms: ModTerms) -> Iterator[ModId]:
    """Yield the mods whose versions the terms rest on."""
    for plain in terms.plain_needs:
        yield plain.mod
    for need in terms.needs:
        for each in need.need.any_of:
            yield each.mod
    for clash in terms.clashes:
        yield clash.clash.other.mod


def _is_plain(need: Need) -> bool:
    return need.listed is None and len(need.any_of) == 1
