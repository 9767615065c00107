"""Reading all cards of a catalog: those that changed from their files, the others from the cache."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, NamedTuple

from rellum.core.catalog.cache import Cache
from rellum.core.catalog.card_store import (
    Content,
    Stamp,
    StoredCard,
    decode_names,
    look_up_terms,
    store_card,
)
from rellum.core.catalog.cards import PlaceFolders, find_ordering, read_card
from rellum.core.catalog.model import GameSheet, Mod, Release
from rellum.core.catalog.open_lines import with_open_lines
from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.tables import MAX_FILE_BYTES, Fault, fault_lines, parse_toml, raise_faults
from rellum.core.catalog.terms import ReleaseNames
from rellum.core.catalog.toml_lines import place_of
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import DOTTED, Ordering
from rellum.core.workers import run_both

if TYPE_CHECKING:
    from rellum.core.catalog.stored_mod import Piece

_FEW = 40
"""Up to so many cards are read in this process: a second one would cost more than it saves."""
_PLAINLY_DOTTED = re.compile(rb"^versions *= *\"dotted\" *(?:#.*)?$", re.MULTILINE)

Orderings = dict[str, Ordering]
Faulty = dict[ModId, tuple[str, ...]]
"""The mistakes in cards, a line each, by the id of the mod that the card is for."""


class ReadCard(NamedTuple):
    """A file that was read: its card and the bytes of its mod, None where there are faults."""

    file: str
    card: StoredCard | None
    content: Content | None
    faults: list[str]


@dataclass(frozen=True, slots=True)
class FoundCards:
    """The cards without faults by id, in the order of their files, and what gives their mods."""

    by_id: Mapping[ModId, StoredCard]
    _cache: Cache
    _places: PlaceFolders

    def mod(self, card: StoredCard) -> Mod:
        """Return a card's mod: as cached, or read again where the cache was damaged. Raises FileFaults."""
        from rellum.core.catalog.stored_mod import decode_mod

        encoded = self._cache.mod(card)
        if encoded is None:
            return self.read_again(card)
        return decode_mod(encoded, _CachedReleases(self, self._cache, card))

    def read_again(self, card: StoredCard) -> Mod:
        """Read a card's mod from its file. Raises FileFaults."""
        orderings: Orderings = {each.id: each.ordering for each in self.by_id.values()}
        reader = _Reader(self._places, orderings, {}, {card.stamp.file: card.stamp})
        mod, faults = reader.mod(card.stamp.file)
        raise_faults(faults, "the catalog")
        assert mod is not None  # else there were faults
        return mod


@dataclass(frozen=True, slots=True)
class _CachedReleases:
    """The releases of a card, as they are in the cache."""

    cards: FoundCards
    cache: Cache
    card: StoredCard

    def names(self) -> ReleaseNames:
        """Return how they are written."""
        return decode_names(self.card)

    def release(self, at: int, piece: Piece) -> Release:
        """Return the one at a position; it is read from its card where the cache was damaged."""
        from rellum.core.catalog.stored_mod import decode_release

        encoded = self.cache.release(self.card, *piece)
        if encoded is None:
            return self.cards.read_again(self.card).releases[at]
        return decode_release(encoded)

    def all_bytes(self) -> bytes:
        """Return the bytes of all of them, as they are now."""
        return self.cache.all_releases(self.card)


def read_cards(files: Sequence[str], sheet: GameSheet, cache_at: str, faulty: Faulty) -> FoundCards:
    """Read the cards without faults, in the order of their files; note the others.

    Two cards with one id are both left out: nobody can say which of them is meant.
    """
    stamps = {file: _stamp(file) for file in files}
    cache = Cache(cache_at, sheet.places)
    before = dict(cache.cards)
    kept = {file: card for file, card in before.items() if stamps.get(file) == card.stamp}
    if len(kept) == len(files) == len(before):
        return FoundCards(_by_id((kept[file] for file in files), faulty), cache, sheet.places)
    changed = [file for file in files if file not in kept]
    tables = _parse(changed if len(changed) <= _FEW else filter(_names_an_ordering, changed))
    orderings = {card.id: card.ordering for card in kept.values()} | _orderings_of(tables)
    known: Orderings = {card.id: card.ordering for card in before.values()}
    if _differ(orderings, {**cache.orderings, **known}):
        # Ranges in cards that did not change may mean something else now.
        kept, changed = {}, list(files)
        tables |= _parse(filter(_names_an_ordering, changed))
        orderings = _orderings_of(tables)
    fresh: set[ModId] = set()
    for each in _Reader(sheet.places, orderings, tables, stamps).read_all(changed):
        if each.card is not None and each.content is not None:
            kept[each.file] = each.card
            fresh.add(each.card.id)
            cache.add(each.card, each.content)
        else:
            _note(faulty, _id_meant(each.file, tables), each.faults)
    found = _by_id((kept[file] for file in files if file in kept), faulty)
    found = look_up_terms(found, fresh, cache.looked_up)
    if fresh or len(kept) != len(before):
        cards = (kept[file] for file in files if file in kept)
        cache.write(
            (found.get(card.id, card) for card in cards),
            {mod: card.versions_hash for mod, card in found.items()},
            {mod: each for mod, each in orderings.items() if mod not in found and each != DOTTED},
        )
    return FoundCards(found, cache, sheet.places)


def _note(faulty: Faulty, mod: ModId, lines: Iterable[str]) -> None:
    faulty[mod] = (*faulty.get(mod, ()), *lines)


def _id_meant(file: str, tables: Mapping[str, Parsed]) -> ModId:
    """Return the id that a faulty card is for: as it says, else as its file is called."""
    table, _ = tables.get(file) or parse_toml(file)
    said = find_ordering(table)[0] if table else ""
    return ModId(said or os.path.basename(file).removesuffix(".toml"))


def _stamp(file: str) -> Stamp:
    """Return what tells whether a file changed; of one that is gone, what no file has."""
    try:
        status = os.stat(file)
    except OSError:
        return Stamp(file=file, size=-1, mtime_ns=0, ctime_ns=0)
    return Stamp(
        file=file, size=status.st_size, mtime_ns=status.st_mtime_ns, ctime_ns=status.st_ctime_ns
    )


Parsed = tuple[dict[str, Any] | None, str]
"""A card's table, or None and what is wrong with its syntax."""


def _parse(files: Iterable[str]) -> dict[str, Parsed]:
    return {file: parse_toml(file) for file in files}


def _orderings_of(tables: Mapping[str, Parsed]) -> Orderings:
    return dict(find_ordering(table) for table, _ in tables.values() if table)


def _names_an_ordering(file: str) -> bool:
    """Whether a card may choose an ordering other than ``dotted``."""
    try:
        with open(file, "rb") as stream:
            content = stream.read(MAX_FILE_BYTES)
    except OSError:
        return False
    return b"versions" in content and not _PLAINLY_DOTTED.search(content)


def _differ(now: Mapping[str, Ordering], before: Mapping[str, Ordering]) -> bool:
    """Whether the ordering of any mod has changed."""
    return any(
        now.get(mod, DOTTED) != before.get(mod, DOTTED) for mod in now.keys() | before.keys()
    )


class _Reader:
    """Reads cards in full, once it is known how the versions of all mods compare."""

    def __init__(
        self,
        places: PlaceFolders,
        orderings: Orderings,
        tables: Mapping[str, Parsed],
        stamps: Mapping[str, Stamp],
    ) -> None:
        self.places = places
        self.orderings = orderings
        self.tables = tables
        self.stamps = stamps

    def read_all(self, files: Sequence[str]) -> list[ReadCard]:
        """Read the files, half of them in a second process where there are many."""
        if len(files) <= _FEW:
            return self.read(files)
        middle = len(files) // 2
        ours, theirs = run_both(
            lambda: self.read(files[:middle]), lambda: self.read(files[middle:])
        )
        return ours + theirs

    def read(self, files: Sequence[str]) -> list[ReadCard]:
        """Return for each file its card, and the faults."""
        return [self._read_one(file) for file in files]

    def _read_one(self, file: str) -> ReadCard:
        mod, faults = self.mod(file)
        if mod is None:
            return ReadCard(file, None, None, faults)
        return ReadCard(file, *store_card(mod, self.stamps[file]), faults)

    def mod(self, file: str) -> tuple[Mod | None, list[str]]:
        """Read one file: return its mod, None where there is a fault, and the faults."""
        table, syntax_fault = self.tables.get(file) or parse_toml(file)
        if table is None:
            return None, [syntax_fault]
        noted: list[Fault] = []
        mod = read_card(table, file, self.places, self.orderings, noted)
        if mod is None:
            return None, fault_lines(noted)
        return with_open_lines(mod, _text_of(file)), fault_lines(noted)


def _text_of(file: str) -> str:
    """Return a card's text; an empty one if it cannot be read."""
    try:
        with open(file, encoding="utf-8") as stream:
            return stream.read(MAX_FILE_BYTES)
    except (OSError, UnicodeDecodeError):
        return ""


def _by_id(cards: Iterable[StoredCard], faulty: Faulty) -> dict[ModId, StoredCard]:
    """Return the cards by id, without those whose id another card has, too; these are noted."""
    found: dict[ModId, StoredCard] = {}
    doubled: set[ModId] = set()
    for card in cards:
        if card.id in found:
            here, first = (
                place_of(Source(file=each.stamp.file, key=("mod", "id")))
                for each in (card, found[card.id])
            )
            _note(faulty, card.id, [f"{here}: mod.id: {card.id!r} is taken already, at {first}"])
            doubled.add(card.id)
        else:
            found[card.id] = card
    return {mod: card for mod, card in found.items() if mod not in doubled and mod not in faulty}
