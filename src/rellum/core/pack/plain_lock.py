"""The releases of a long ``rellum.lock`` without mistakes, read at once.

Whoever reads a lock with a mistake wants to know where it is; that is found key by key
(``rellum.core.pack.lock_file``). A line-up of thousands is read here in a tenth of that time.
"""

from __future__ import annotations

from typing import Annotated, Any

# Whoever reads a long lock imports this module, and nobody else.
from msgspec import Meta, Struct, ValidationError, convert, field  # noqa: TID253

from rellum.core.catalog.release_rules import ReleaseFile, Source
from rellum.core.pack.locked_release import LockedRelease
from rellum.core.values.ids import ModId

Text = Annotated[str, Meta(pattern=r"\S")]
Id = Annotated[str, Meta(pattern=r"^[a-z0-9]+(?:-[a-z0-9]+)*\Z", max_length=64)]
Hash = Annotated[str, Meta(pattern=r"^[0-9a-f]{64}\Z")]


class _File(Struct, forbid_unknown_fields=True):
    name: Text
    size: Annotated[int, Meta(ge=0, le=(1 << 63) - 1)] | None = None
    sha256: Hash | None = None
    blake3: Hash | None = None


class _Release(Struct, forbid_unknown_fields=True):
    mod: Id
    version: Text
    build: Text = ""
    needed_by: tuple[Text, ...] = field(default=(), name="needed-by")
    rests_on: Text = field(default="", name="rests-on")
    check_by_hand: tuple[Text, ...] = field(default=(), name="check-by-hand")
    options: dict[str, tuple[Text, ...]] = field(default_factory=dict)
    file: tuple[_File, ...] = ()


def read_plain(tables: Any, file: str) -> tuple[LockedRelease, ...] | None:
    """Return the releases of a lock's tables; None where something in them is not as it should be."""
    try:
        found = convert(tables, tuple[_Release, ...])
    except ValidationError:
        return None
    return tuple(
        LockedRelease(
            mod=ModId(each.mod),
            version=each.version,
            build=each.build,
            options=tuple(each.options.items()),
            trial=each.rests_on,
            because=tuple(map(ModId, each.needed_by)),
            files=tuple(
                ReleaseFile(name=one.name, size=one.size, sha256=one.sha256, blake3=one.blake3)
                for one in each.file
            ),
            source=Source(file=file, key=("release", at)),
            check_by_hand=each.check_by_hand,
        )
        for at, each in enumerate(found)
    )
