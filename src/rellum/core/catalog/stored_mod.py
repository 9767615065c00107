"""A mod as bytes, whose releases are read one by one, when they are first asked for."""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence
from dataclasses import dataclass
from struct import Struct
from typing import NamedTuple, Protocol, overload

from msgspec.msgpack import Decoder, encode  # noqa: TID253 (who decodes a mod imports this, and nobody else)

from rellum.core.catalog.model import (
    Kind,
    Mod,
    NamedReleases,
    NewsSource,
    OptionGroup,
    Release,
)
from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.terms import ReleaseNames
from rellum.core.hashing import short_hash
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import Ordering

_PIECE = Struct("<QQ16s")


class Piece(NamedTuple):
    """Where a release's bytes are, after those of its mod; and their hash."""

    start: int
    length: int
    digest: str


@dataclass(frozen=True, slots=True, kw_only=True)
class StoredMod:
    """What ``Mod`` has, with where its releases are in place of these: a piece each, 32 bytes long."""

    id: ModId
    name: str
    kind: Kind
    licence: str
    ordering: Ordering
    releases: bytes
    options: tuple[OptionGroup, ...]
    source: Source
    own_id: str
    news: NewsSource | None


_mods: Decoder[StoredMod] = Decoder(StoredMod)
_releases: Decoder[Release] = Decoder(Release)


def encode_mod(mod: Mod) -> tuple[bytes, bytes]:
    """Return a mod as bytes, but for its releases, and these."""
    pieces = bytearray()
    releases = bytearray()
    for each in mod.releases:
        encoded = encode(each)
        pieces += _PIECE.pack(len(releases), len(encoded), bytes.fromhex(short_hash(encoded)))
        releases += encoded
    stored = StoredMod(
        id=mod.id,
        name=mod.name,
        kind=mod.kind,
        licence=mod.licence,
        ordering=mod.ordering,
        releases=bytes(pieces),
        options=mod.options,
        source=mod.source,
        own_id=mod.own_id,
        news=mod.news,
    )
    return encode(stored), bytes(releases)


class ReleaseSource(Protocol):
    """Where the releases of one mod are read from."""

    def names(self) -> ReleaseNames:
        """Return how they are written."""

    def release(self, at: int, piece: Piece) -> Release:
        """Return the one at a position."""

    def all_bytes(self) -> bytes:
        """Return the bytes of all of them, as they are now; fewer where they cannot be read."""


def decode_mod(encoded: bytes, source: ReleaseSource) -> Mod:
    """Return the mod that was encoded. Raises msgspec.DecodeError."""
    stored = _mods.decode(encoded)
    return Mod(
        id=stored.id,
        name=stored.name,
        kind=stored.kind,
        licence=stored.licence,
        ordering=stored.ordering,
        releases=LazyReleases(stored.releases, source),
        options=stored.options,
        source=stored.source,
        own_id=stored.own_id,
        news=stored.news,
    )


def decode_release(encoded: bytes) -> Release:
    """Return the release that was encoded. Raises msgspec.DecodeError."""
    return _releases.decode(encoded)


class LazyReleases(NamedReleases):
    """Releases, each read once, when it is asked for; equal to any sequence of the same releases."""

    __slots__ = ("_found", "_pieces", "_source")

    def __init__(self, pieces: bytes, source: ReleaseSource) -> None:
        self._pieces = pieces
        self._source = source
        self._found: dict[int, Release] = {}

    def named(self, text: str, build: str) -> Release | None:
        """Return the release whose version and build are written just so."""
        at = self._source.names().position(text, build)
        return None if at is None else self[at]

    def of_versions(self, texts: Container[str]) -> list[Release]:
        """Return the releases whose versions are written so."""
        return [self[at] for at, each in enumerate(self._source.names().texts) if each in texts]

    @overload
    def __getitem__(self, at: int) -> Release: ...

    @overload
    def __getitem__(self, at: slice) -> tuple[Release, ...]: ...

    def __getitem__(self, at: int | slice) -> Release | tuple[Release, ...]:
        if isinstance(at, slice):
            return tuple(self[each] for each in range(*at.indices(len(self))))
        at = range(len(self))[at]
        found = self._found.get(at)
        if found is None:
            found = self._found[at] = self._source.release(at, self._piece(at))
        return found

    def _piece(self, at: int) -> Piece:
        start, length, digest = _PIECE.unpack_from(self._pieces, at * _PIECE.size)
        return Piece(start, length, digest.hex())

    def __iter__(self) -> Iterator[Release]:
        if len(self._found) < len(self):
            self._read_all()
        return (self[at] for at in range(len(self)))

    def _read_all(self) -> None:
        """Read at once what was not read so far; what is damaged is left to be read by itself."""
        encoded = self._source.all_bytes()
        for at in range(len(self)):
            start, length, digest = self._piece(at)
            piece = encoded[start : start + length]
            if at not in self._found and short_hash(piece) == digest:
                self._found[at] = decode_release(piece)

    def __len__(self) -> int:
        return len(self._pieces) // _PIECE.size

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and tuple(self) == tuple(other)

    def __hash__(self) -> int:
        return hash(tuple(self))

    def __repr__(self) -> str:
        return repr(tuple(self))
