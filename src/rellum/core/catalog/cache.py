"""A cache of cards. It is safe to delete: nothing depends on it.

Its file ends with what is read at once: the cards with their terms, then their hash and their length. The
mods themselves and their releases stand before it, each read and compared with its own hash when it is
asked for.

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
from typing import BinaryIO

from rellum import __version__
from rellum.core.catalog.card_store import Content, StoredCard
from rellum.core.hashing import hash_bytes, short_hash
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import Ordering

CACHE_VARIABLE = "RELLUM_CACHE"
FORMAT = f"17 {__version__}"
_UNSETTLED_NS = 2_000_000_000
"""A time nearer to now than this many nanoseconds does not prove that a file is unchanged."""
_HASH_LENGTH = 64
_TAIL_LENGTH = _HASH_LENGTH + 16
"""The hash, and the length of what is hashed: 16 digits."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Span:
    """Where a mod's bytes are in the file, and how many; those of its releases follow."""

    start: int
    length: int
    releases_length: int


@dataclass(frozen=True, slots=True, kw_only=True)
class CachedCards:
    """What the cache's file holds, but for the mods' own bytes: these are at ``spans``, a card each.

    ``looked_up`` are the hashes of the versions in which the terms were looked up, by mod; ``orderings`` how
    the versions of those mods compare whose cards are not here, for their mistakes.
    """

    format: str
    places: tuple[tuple[str, str], ...]
    cards: tuple[StoredCard, ...]
    spans: tuple[Span, ...]
    looked_up: dict[ModId, str]
    orderings: dict[str, Ordering]


class Cache:
    """The cards that were cached for some places; none where there is no good cache.

    cards: by file
    looked_up: the hashes of the versions in which their terms were looked up, by mod
    orderings: how the versions of mods compare whose cards have mistakes
    """

    def __init__(self, file: str, places: Mapping[str, str]) -> None:
        self.file = file
        self._places = tuple(sorted(places.items()))
        self._stream: BinaryIO | None = None
        self._fresh: dict[str, Content] = {}
        self._spans: dict[str, Span] = {}
        self.cards: dict[str, StoredCard] = {}
        self.looked_up: Mapping[ModId, str] = {}
        self.orderings: Mapping[str, Ordering] = {}
        found = self._read()
        if found is not None and (found.format, found.places) == (FORMAT, self._places):
            self.cards = {card.stamp.file: card for card in found.cards}
            self._spans = dict(zip(self.cards, found.spans, strict=True))
            self.looked_up = found.looked_up
            self.orderings = found.orderings

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

    def __del__(self) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the file; it is opened again when something is asked for."""
        if self._stream is not None:
            self._stream.close()
            self._stream = None

    def add(self, card: StoredCard, content: Content) -> None:
        """Note a card that was read just now."""
        self.cards[card.stamp.file] = card
        self._fresh[card.stamp.file] = content

    def mod(self, card: StoredCard) -> bytes | None:
        """Return a mod's bytes; None where they are not what was written."""
        fresh = self._fresh.get(card.stamp.file)
        if fresh is not None:
            return fresh.mod
        span = self._spans.get(card.stamp.file)
        return self._checked(span.start, span.length, card.digest) if span else None

    def release(self, card: StoredCard, start: int, length: int, digest: str) -> bytes | None:
        """Return the bytes of a release, which start after its mod's; None where they are others now."""
        fresh = self._fresh.get(card.stamp.file)
        if fresh is not None:
            return fresh.releases[start : start + length]
        span = self._spans.get(card.stamp.file)
        return self._checked(span.start + span.length + start, length, digest) if span else None

    def all_releases(self, card: StoredCard) -> bytes:
        """Return the bytes of all releases of a mod, as they are now; fewer where they cannot be read."""
        fresh = self._fresh.get(card.stamp.file)
        if fresh is not None:
            return fresh.releases
        span = self._spans.get(card.stamp.file)
        return self._bytes(span.start + span.length, span.releases_length) if span else b""

    def _checked(self, start: int, length: int, digest: str) -> bytes | None:
        found = self._bytes(start, length)
        return found if short_hash(found) == digest else None

    def _bytes(self, start: int, length: int) -> bytes:
        """Return a part of the file; less where it cannot be read."""
        try:
            if self._stream is None:
                self._stream = open(self.file, "rb", buffering=0)  # noqa: SIM115 (closed with the cache)
            if hasattr(
                os, "pread"
            ):  # a second process may read here, too, and would move the place
                return os.pread(self._stream.fileno(), length, start)
            self._stream.seek(start)
            return self._stream.read(length)
        except OSError:
            return b""

    def _content(self, card: StoredCard) -> Content | None:
        """Return all bytes of a mod, to be written again; None where they are not there."""
        fresh = self._fresh.get(card.stamp.file)
        if fresh is not None:
            return fresh
        span = self._spans.get(card.stamp.file)
        if span is None:
            return None
        mod, releases = self.mod(card), self.all_releases(card)
        return Content(mod, releases) if mod and len(releases) == span.releases_length else None

    def write(
        self,
        cards: Iterable[StoredCard],
        looked_up: Mapping[ModId, str],
        orderings: Mapping[str, Ordering],
    ) -> None:
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
                    if max(card.stamp.mtime_ns, card.stamp.ctime_ns) >= settled:
                        continue
                    content = self._content(card)
                    if content is not None:
                        kept.append(card)
                        spans.append(
                            Span(
                                start=stream.tell(),
                                length=len(content.mod),
                                releases_length=len(content.releases),
                            )
                        )
                        stream.writelines(content)
                index = msgspec.msgpack.encode(
                    CachedCards(
                        format=FORMAT,
                        places=self._places,
                        cards=tuple(kept),
                        spans=tuple(spans),
                        looked_up=dict(looked_up),
                        orderings=dict(orderings),
                    )
                )
                stream.write(index)
                stream.write(hash_bytes(index).encode("ascii"))
                stream.write(b"%016d" % len(index))
            self.close()  # it can still be read from what was opened before, but on Windows not replaced
            os.replace(temporary, self.file)
            self._spans = {card.stamp.file: span for card, span in zip(kept, spans, strict=True)}
            self._fresh = {k: each for k, each in self._fresh.items() if k not in self._spans}
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
