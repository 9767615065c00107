"""A cache of cards. It is safe to delete: nothing depends on it.

A card is taken from it only while its file has the size and times that it had when it was read, its
game's places are the same, and no mod's versions compare otherwise than then (ranges are read by
that). A file changed so lately that its time could stay the same through a second change is not
kept. What cannot be read, or does not match its own hash, is passed over.
"""

from __future__ import annotations

import os
import time
from collections.abc import Mapping
from dataclasses import dataclass

from rellum import __version__
from rellum.core.catalog.card_store import StoredCard
from rellum.core.hashing import hash_bytes

CACHE_VARIABLE = "RELLUM_CACHE"
FORMAT = f"13 {__version__}"
_UNSETTLED_NS = 2_000_000_000
"""A time nearer to now than this many nanoseconds does not prove that a file is unchanged."""
_HASH_LENGTH = 64


@dataclass(frozen=True, slots=True, kw_only=True)
class CachedCards:
    """What the cache's file holds."""

    format: str
    places: tuple[tuple[str, str], ...]
    cards: tuple[StoredCard, ...]


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


def read_cache(file: str, places: Mapping[str, str]) -> dict[str, StoredCard]:
    """Return the cards that were cached for these places, by file; none where there is no good cache."""
    try:
        with open(file, "rb") as stream:
            written = stream.read()
    except OSError:
        return {}
    content = written[_HASH_LENGTH:]
    if hash_bytes(content).encode("ascii") != written[:_HASH_LENGTH]:
        return {}
    import msgspec

    try:
        cached = msgspec.msgpack.decode(content, type=CachedCards)
    except (msgspec.DecodeError, UnicodeDecodeError):
        return {}
    if cached.format != FORMAT or cached.places != tuple(sorted(places.items())):
        return {}
    return {card.stamp.file: card for card in cached.cards}


def write_cache(file: str, places: Mapping[str, str], cards: list[StoredCard]) -> None:
    """Keep the cards for the next time. What goes wrong is no matter: they can be read again."""
    import msgspec

    settled = time.time_ns() - _UNSETTLED_NS
    kept = tuple(each for each in cards if max(each.stamp.mtime_ns, each.stamp.ctime_ns) < settled)
    cached = CachedCards(format=FORMAT, places=tuple(sorted(places.items())), cards=kept)
    content = msgspec.msgpack.encode(cached)
    temporary = f"{file}.{os.getpid()}"
    try:
        os.makedirs(os.path.dirname(file), exist_ok=True)
        with open(temporary, "wb") as stream:
            stream.write(hash_bytes(content).encode("ascii"))
            stream.write(content)
        os.replace(temporary, file)
    except OSError:
        try:
            os.unlink(temporary)
        except OSError:
            pass
