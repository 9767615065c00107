"""The cards of a catalog as compact bytes: what is asked for is decoded then, and nothing else.

The same bytes are what the cache keeps (``rellum.core.catalog.cache``), so that a catalog of
thousands of cards costs no more than what is looked at: a search reads the terms of mods, and of a mod
that it chooses one release.
"""

from __future__ import annotations

from collections.abc import Callable, Container, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cache
from typing import TYPE_CHECKING, NamedTuple

from rellum.core.catalog.model import Catalog, Mod, Requirement
from rellum.core.catalog.terms import (
    WIDEST,
    MadeTerms,
    ModTerms,
    ReleaseNames,
    TermsBook,
    ascending,
    looked_up_again,
    make_terms,
    mask_in,
    mods_looked_up,
    names_of,
)
from rellum.core.hashing import short_hash
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import Ordering
from rellum.core.versions.ranges import parse_range
from rellum.core.versions.version import Key, Version

if TYPE_CHECKING:
    from msgspec.msgpack import Decoder


@dataclass(frozen=True, slots=True, kw_only=True)
class Stamp:
    """How a file is known to be unchanged: its size in bytes and two times in nanoseconds."""

    file: str
    size: int
    mtime_ns: int
    ctime_ns: int


@dataclass(frozen=True, slots=True, kw_only=True)
class StoredCard:
    """A card without faults: what must be known of it at once, and its parts encoded.

    ``count`` is how many releases it has. ``says_of_files``: some of them name the user's own files, settings
    or what older releases left.
    ``terms`` are empty where they do not fit into 64 bits: they are made from the mod then. ``digest`` is the
    hash of the mod's own bytes, which are kept apart, as its releases are.
    """

    stamp: Stamp
    id: ModId
    ordering: Ordering
    offers: tuple[ModId, ...]
    count: int
    says_of_files: bool
    names: bytes
    versions: bytes
    terms: bytes
    digest: str

    @property
    def versions_hash(self) -> str:
        """What differs where its versions or how they compare do."""
        return short_hash(self.versions + repr(self.ordering).encode())


class Content(NamedTuple):
    """A mod as bytes, and its releases."""

    mod: bytes
    releases: bytes


def store_card(mod: Mod, stamp: Stamp) -> tuple[StoredCard, Content]:
    """Encode a mod: its card, whose terms are still to be looked up, and the whole of it."""
    import msgspec

    from rellum.core.catalog.stored_mod import encode_mod

    encode = msgspec.msgpack.encode
    content = Content(*encode_mod(mod))
    offers = dict.fromkeys(offer.mod for release in mod.releases for offer in release.offers)
    is_wide = len(mod.releases) > WIDEST
    card = StoredCard(
        stamp=stamp,
        id=mod.id,
        ordering=mod.ordering,
        offers=tuple(offers),
        count=len(mod.releases),
        says_of_files=any(each.carry or each.settings or each.obsolete for each in mod.releases),
        names=encode(names_of(mod)),
        versions=encode(tuple(each.version for each in mod.releases)),
        terms=b"" if is_wide else encode(make_terms(mod, lambda _: 0)),
        digest=short_hash(content.mod),
    )
    return card, content


def decode_names(card: StoredCard) -> ReleaseNames:
    """Return how a card's releases are written."""
    return _decoders().names.decode(card.names)


class _Decoders:
    """Decodes the parts of cards."""

    def __init__(self) -> None:
        from msgspec.msgpack import Decoder

        self.names: Decoder[ReleaseNames] = Decoder(ReleaseNames)
        self.versions: Decoder[tuple[Version, ...]] = Decoder(tuple[Version, ...])
        self.terms: Decoder[ModTerms] = Decoder(ModTerms)


@cache
def _decoders() -> _Decoders:
    """Return them, made when something is first decoded."""
    return _Decoders()


def look_up_terms(
    cards: Mapping[ModId, StoredCard], fresh: Container[ModId], known: Mapping[ModId, str]
) -> dict[ModId, StoredCard]:
    """Return the cards with all terms looked up in the versions of the mods that they name.

    Of ``fresh`` cards none is looked up yet, nor of those that are not ``known``; those of the others have
    been, in versions of these hashes.
    """
    lookup = _Lookup(cards)
    moved = {
        mod
        for mod in cards.keys() | known.keys()
        if mod not in cards or cards[mod].versions_hash != known.get(mod)
    }
    return {
        mod: lookup.looked_up(card)
        if mod in fresh or mod not in known or lookup.rests_on(card, moved)
        else card
        for mod, card in cards.items()
    }


class _Lookup:
    """Looks up what the terms of cards mean."""

    def __init__(self, cards: Mapping[ModId, StoredCard]) -> None:
        self._cards = cards
        self._decoders = _decoders()
        self._keys: dict[ModId, list[Key]] = {}
        self._masks: dict[Requirement, int] = {}

    def rests_on(self, card: StoredCard, moved: Container[ModId]) -> bool:
        """Whether the terms of a card speak of some mods."""
        if not moved or not card.terms:
            return False
        return any(mod in moved for mod in mods_looked_up(self._decoders.terms.decode(card.terms)))

    def looked_up(self, card: StoredCard) -> StoredCard:
        """Return a card whose terms mean what the cards say now."""
        import msgspec

        if not card.terms:
            return card
        terms = looked_up_again(self._decoders.terms.decode(card.terms), self.mask)
        try:
            return replace(card, terms=msgspec.msgpack.encode(terms))
        except OverflowError:  # a mod that it names has more releases than 64 bits hold
            return replace(card, terms=b"")

    def mask(self, requirement: Requirement) -> int:
        """Return the releases that a requirement means."""
        found = self._masks.get(requirement)
        if found is None:
            found = self._masks[requirement] = self._make_mask(requirement)
        return found

    def _make_mask(self, requirement: Requirement) -> int:
        card = self._cards.get(requirement.mod)
        if card is None:
            return 0
        keys = self._keys.get(card.id)
        if keys is None:
            keys = self._keys[card.id] = ascending(self._decoders.versions.decode(card.versions))
        return mask_in(parse_range(requirement.range, card.ordering), keys)


class StoredMods(Mapping[ModId, Mod]):
    """Mods by id, each decoded once, when it is first asked for."""

    def __init__(
        self, cards: Mapping[ModId, StoredCard], decode: Callable[[StoredCard], Mod]
    ) -> None:
        self.cards = cards
        self._decode = decode
        self._decoded: dict[ModId, Mod] = {}

    def __getitem__(self, mod_id: ModId) -> Mod:
        found = self._decoded.get(mod_id)
        if found is None:
            found = self._decoded[mod_id] = self._decode(self.cards[mod_id])
        return found

    def __contains__(self, mod_id: object) -> bool:
        return mod_id in self.cards

    def __iter__(self) -> Iterator[ModId]:
        return iter(self.cards)

    def __len__(self) -> int:
        return len(self.cards)


def card_file(catalog: Catalog, mod: ModId) -> str:
    """Return the file of a mod's card."""
    mods = catalog.mods
    return mods.cards[mod].stamp.file if isinstance(mods, StoredMods) else mods[mod].source.file


def says_of_files(catalog: Catalog, mod: ModId) -> bool:
    """Whether some release of a mod may name the user's own files, settings or what older ones left."""
    return not isinstance(catalog.mods, StoredMods) or catalog.mods.cards[mod].says_of_files


def may_name(catalog: Catalog, mod: ModId, other: ModId) -> bool:
    """Whether what a mod says of others may name a certain one; False: it surely does not."""
    mods = catalog.mods
    terms = mods.cards[mod].terms if isinstance(mods, StoredMods) else b""
    return not terms or other.encode() in terms


def terms_of(catalog: Catalog) -> TermsBook:
    """Return the terms of a catalog's mods: as they are stored, else as they are made."""
    made = MadeTerms(catalog)
    return StoredTerms(catalog.mods, made) if isinstance(catalog.mods, StoredMods) else made


class StoredTerms:
    """The terms of stored cards, decoded when they are asked for and not kept."""

    def __init__(self, mods: StoredMods, made: MadeTerms) -> None:
        """``made`` gives the terms that are not stored."""
        self._cards = mods.cards
        self._made = made
        self._decoders = _decoders()

    def count(self, mod: ModId) -> int:
        """Return how many releases a mod has that has a card."""
        return self._cards[mod].count

    def terms(self, mod: ModId) -> ModTerms:
        """Return the terms of a mod that has a card."""
        stored = self._cards[mod].terms
        return self._decoders.terms.decode(stored) if stored else self._made.terms(mod)

    def names(self, mod: ModId) -> ReleaseNames:
        """Return the names of its releases."""
        return decode_names(self._cards[mod])

    def versions(self, mod: ModId) -> tuple[Version, ...]:
        """Return the versions of its releases, the newest first."""
        return self._decoders.versions.decode(self._cards[mod].versions)
