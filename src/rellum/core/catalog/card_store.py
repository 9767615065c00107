"""The cards of a catalog as compact bytes: a mod is decoded when it is first asked for.

The same bytes are what the cache keeps (``rellum.core.catalog.cache``), so that a catalog of
thousands of cards costs no more than those that are looked at.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rellum.core.catalog.model import Mod
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import Ordering

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
    """A card without faults: what must be known of it at once, and all of it encoded."""

    stamp: Stamp
    id: ModId
    ordering: Ordering
    offers: tuple[ModId, ...]
    content: bytes


def store_card(mod: Mod, stamp: Stamp) -> StoredCard:
    """Encode a mod."""
    import msgspec

    offers = dict.fromkeys(offer.mod for release in mod.releases for offer in release.offers)
    return StoredCard(
        stamp=stamp,
        id=mod.id,
        ordering=mod.ordering,
        offers=tuple(offers),
        content=msgspec.msgpack.encode(mod),
    )


class StoredMods(Mapping[ModId, Mod]):
    """Mods by id, each decoded once, when it is first asked for."""

    def __init__(self, cards: Mapping[ModId, StoredCard]) -> None:
        self._cards = cards
        self._decoded: dict[ModId, Mod] = {}
        self._decoder: Decoder[Mod] | None = None

    def __getitem__(self, mod_id: ModId) -> Mod:
        found = self._decoded.get(mod_id)
        if found is None:
            card = self._cards[mod_id]
            if self._decoder is None:
                from msgspec.msgpack import Decoder

                self._decoder = Decoder(Mod)
            found = self._decoded[mod_id] = self._decoder.decode(card.content)
        return found

    def __contains__(self, mod_id: object) -> bool:
        return mod_id in self._cards

    def __iter__(self) -> Iterator[ModId]:
        return iter(self._cards)

    def __len__(self) -> int:
        return len(self._cards)
