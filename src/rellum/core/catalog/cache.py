"""A cache of cards. It is safe to delete: nothing depends on it.

Its file ends with what is read at once: the cards with their terms, then their hash and their length. The
mods themselves stand before it, each read and compared with its own hash when it is asked for.

A card is taken from it only while its file has the size and times that it had when it was read, its
game's places are the same, and no mod's versions compare otherwise than then (ranges are read by
that). A file changed so lately that its time could stay the same through a second change is not
kept. What cannot be read, or does not match its own hash, is passed over.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from rellum import __version__
from rellum.core.catalog.card_store import StoredCard, content_digest
from rellum.core.hashing import hash_bytes
from rellum.core.values.ids import ModId

CACHE_VARIABLE = "RELLUM_CACHE"
FORMAT = f"14 {__version__}"
_UNSETTLED_NS = 2_000_000_000
"""A time nearer to now than this many nanoseconds does not prove that a file is unchanged."""
_HASH_LENGTH = 64
_TAIL_LENGTH = _HASH_LENGTH + 16
"""The hash, and the length of what is hashed: 16 digits."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Span:
    """Where a mod's bytes are in the file."""

    start: int
    length: int


@dataclass(frozen=True, slots=True, kw_only=True)
class CachedCards:
    """What the cache's file holds, but for the mods' own bytes: these are at ``spans``, a card each.

    ``looked_up`` are the hashes of the versions in which the terms were looked up, by mod.
    """

    format: str
    places: tuple[tuple[str, str], ...]
    cards: tuple[StoredCard, ...]
    spans: tuple[Span, ...]
    looked_up: dict[ModId, str]


class Cache:
    """The cards that were cached for some places; none where there is no good cache.

    cards: by file
    looked_up: the hashes of the versions in which their terms were looked up, by mod
    """

    def __init__(self, file: str, places: Mapping[str, str]) -> None:
        self.file = file
        self._places = tuple(sorted(places.items()))
        self._contents: dict[str, bytes] = {}
        self._spans: dict[str, Span] = {}
        self.cards: dict[str, StoredCard] = {}
        self.looked_up: Mapping[ModId, str] = {}
        found = self._read()
        if found is not None and (found.format, found.places) == (FORMAT, self._places):
            self.cards = {card.stamp.file: card for card in found.cards}
            self._spans = dict(zip(self.cards, found.spans, strict=True))
            self.looked_up = found.looked_up

    def _read(self) -> CachedCards | None:
        try:
            with open(self.file, "rb") as stream:
                end = stream.seek(-_TAIL_LENGTH, os.SEEK_END)
                tail = stream.read()
                length = int(tail[_HASH_LENGTH:])
                stream.seek(end - length)
                index = stream.read(length)
        except (OSError, ValueError):
            return None
        if hash_bytes(index).encode("ascii") != tail[:_HASH_LENGTH]:
            return None
        import msgspec

        try:
            return msgspec.msgpack.decode(index, type=CachedCards)
        except (msgspec.DecodeError, UnicodeDecodeError):
            return None

    def add(self, card: StoredCard, content: bytes) -> None:
        """Note a card that was read just now; ``content`` are its mod's bytes."""
        self.cards[card.stamp.file] = card
        self._contents[card.stamp.file] = content

    def content(self, card: StoredCard) -> bytes | None:
        """Return a mod's bytes; None where they are not what was written."""
        found = self._contents.get(card.stamp.file)
        if found is not None:
            return found
        span = self._spans[card.stamp.file]
        try:
            with open(self.file, "rb", buffering=0) as stream:
                stream.seek(span.start)
                found = stream.read(span.length)
        except OSError:
            return None
        return found if content_digest(found) == card.digest else None

    def write(self, cards: Iterable[StoredCard], looked_up: Mapping[ModId, str]) -> None:
        """Keep cards for the next time. What goes wrong is no matter: they can be read again."""
        import msgspec

        settled = time.time_ns() - _UNSETTLED_NS
        temporary = f"{self.file}.{os.getpid()}"
        try:
            os.makedirs(os.path.dirname(self.file), exist_ok=True)
            with open(temporary, "wb") as stream:
                kept: list[StoredCard] = []
                spans: list[Span] = []
                for card in cards:
                    content = self.content(card)
                    if content and max(card.stamp.mtime_ns, card.stamp.ctime_ns) < settled:
                        kept.append(card)
                        spans.append(Span(start=stream.tell(), length=len(content)))
                        stream.write(content)
                index = msgspec.msgpack.encode(
                    CachedCards(
                        format=FORMAT,
                        places=self._places,
                        cards=tuple(kept),
                        spans=tuple(spans),
                        looked_up=dict(looked_up),
                    )
                )
                stream.write(index)
                stream.write(hash_bytes(index).encode("ascii"))
                stream.write(b"%016d" % len(index))
            os.replace(temporary, self.file)
        except OSError:
            try:
                os.unlink(temporary)
            except OSError:
                pass


def cache_folder() -> str:
    """Return the folder for what can be had again: ``RELLUM_CACHE``, or the user's cache folder."""
    folder = os.environ.get(CACHE_VARIABLE)
    if folder:
        return folder
    import platformdirs

    return platformdirs.user_cache_dir("rellum", appauthor=False)


def cache_file(folders: tuple[str, ...], sheet: str) -> str:
    """Return where the cards of these catalog folders are cached."""
    name = hash_bytes("\0".join((sheet, *folders)).encode("utf-8", "surrogateescape"))
    return os.path.join(cache_folder(), f"cards-{name[:32]}")
