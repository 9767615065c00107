"""A mod as bytes, whose releases are decoded one by one, when they are first asked for."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import overload

from msgspec import Raw  # noqa: TID253 (who decodes a mod imports this module, and nobody else)
from msgspec.msgpack import Decoder, encode  # noqa: TID253

from rellum.core.catalog.model import Kind, Mod, NewsSource, OptionGroup, Release
from rellum.core.catalog.release_rules import Source
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import Ordering


@dataclass(frozen=True, slots=True, kw_only=True)
class StoredMod:
    """What ``Mod`` has, each release still encoded."""

    id: ModId
    name: str
    kind: Kind
    licence: str
    ordering: Ordering
    releases: tuple[Raw, ...]
    options: tuple[OptionGroup, ...]
    source: Source
    own_id: str
    news: NewsSource | None
    written: tuple[tuple[str, str], ...]


_mods: Decoder[StoredMod] = Decoder(StoredMod)
_releases: Decoder[Release] = Decoder(Release)


def encode_mod(mod: Mod) -> bytes:
    """Return a mod as bytes."""
    return encode(
        StoredMod(
            id=mod.id,
            name=mod.name,
            kind=mod.kind,
            licence=mod.licence,
            ordering=mod.ordering,
            releases=tuple(Raw(encode(each)) for each in mod.releases),
            options=mod.options,
            source=mod.source,
            own_id=mod.own_id,
            news=mod.news,
            written=tuple((each.version.text, each.build) for each in mod.releases),
        )
    )


def decode_mod(content: bytes) -> Mod:
    """Return the mod that was encoded. Raises msgspec.DecodeError."""
    stored = _mods.decode(content)
    return Mod(
        id=stored.id,
        name=stored.name,
        kind=stored.kind,
        licence=stored.licence,
        ordering=stored.ordering,
        releases=EncodedReleases(stored.releases),
        options=stored.options,
        source=stored.source,
        own_id=stored.own_id,
        news=stored.news,
        written=stored.written,
    )


class EncodedReleases(Sequence[Release]):
    """Releases, each decoded once; equal to any sequence of the same releases."""

    __slots__ = ("_decoded", "_encoded")

    def __init__(self, encoded: Sequence[Raw]) -> None:
        self._encoded = encoded
        self._decoded: list[Release | None] = [None] * len(encoded)

    @overload
    def __getitem__(self, at: int) -> Release: ...

    @overload
    def __getitem__(self, at: slice) -> tuple[Release, ...]: ...

    def __getitem__(self, at: int | slice) -> Release | tuple[Release, ...]:
        if isinstance(at, slice):
            return tuple(self[each] for each in range(*at.indices(len(self))))
        found = self._decoded[at]
        if found is None:
            found = self._decoded[at] = _releases.decode(self._encoded[at])
        return found

    def __iter__(self) -> Iterator[Release]:
        return (self[at] for at in range(len(self._encoded)))

    def __len__(self) -> int:
        return len(self._encoded)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and tuple(self) == tuple(other)

    def __hash__(self) -> int:
        return hash(tuple(self))

    def __repr__(self) -> str:
        return repr(tuple(self))
