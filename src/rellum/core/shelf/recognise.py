"""Which release an archive is, told by its hash alone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from rellum.core.catalog.model import Catalog, Release, ReleaseFile
from rellum.core.catalog.toml_lines import place_of
from rellum.core.ids import ModId
from rellum.core.shelf.store import ShelfEntry
from rellum.core.versions.version import Version


@dataclass(frozen=True, slots=True, kw_only=True)
class Recognised:
    """The release whose card names the archive's hash."""

    mod: ModId
    version: Version


def card_files(catalog: Catalog) -> Iterator[tuple[Release, ReleaseFile]]:
    """Yield every file that a card names, with its release."""
    for mod in catalog.mods.values():
        for release in mod.releases:
            for file in release.files:
                yield release, file


def wants_sha256(catalog: Catalog, name: str, size: int) -> bool:
    """Whether some card knows a file of this size (or, where it tells none, this name) by SHA-256."""
    return any(
        file.sha256 is not None and (file.size == size or (file.size is None and file.name == name))
        for _, file in card_files(catalog)
    )


def recognise(catalog: Catalog, entry: ShelfEntry) -> Recognised | None:
    """Return the release that an archive on the shelf is, or None where no card knows its hash."""
    for release, file in card_files(catalog):
        known_by_blake3 = file.blake3 is not None and file.blake3 == entry.digest
        known_by_sha256 = file.sha256 is not None and file.sha256 == entry.sha256
        if known_by_blake3 or (file.blake3 is None and known_by_sha256):
            return Recognised(mod=release.mod, version=release.version)
    return None


def mismatch(catalog: Catalog, name: str, size: int) -> str:
    """Say why an archive that bears a card's file name is not that file, or return nothing.

    For an archive that was not recognised: its name is known and its hash is not.
    """
    for release, file in card_files(catalog):
        if file.name != name:
            continue
        said = f"{release.mod} {release.version} has a file of that name"
        where = place_of(release.source)
        if file.size is not None and file.size != size:
            return f"{said} with {file.size:,} bytes, and this has {size:,} ({where})"
        return f"{said} with another hash ({where})"
    return ""
