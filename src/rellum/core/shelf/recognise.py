"""Which release an archive is, by its hashes."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from rellum.core.catalog.model import Catalog, Release
from rellum.core.catalog.release_rules import ReleaseFile
from rellum.core.catalog.toml_lines import place_of
from rellum.core.shelf.index import Origin
from rellum.core.shelf.intake import Hashes


@dataclass(frozen=True, slots=True, kw_only=True)
class Recognised:
    """The release and file that an archive is, and by what that is known: a hash's name, or ``stated``."""

    release: Release
    file: ReleaseFile
    by: str

    @property
    def origin(self) -> Origin:
        """What the shelf remembers of it."""
        return Origin(
            mod=self.release.mod,
            version=self.release.version.text,
            build=self.release.build,
            urls=self.file.urls,
            by_hand=self.file.by_hand,
            page=self.file.page,
        )


class CardFiles:
    """All files that the cards of a catalog name, by what a file can be found by."""

    def __init__(self, catalog: Catalog) -> None:
        self._by_hash: dict[tuple[str, str], tuple[Release, ReleaseFile]] = {}
        self._by_name: dict[str, list[tuple[Release, ReleaseFile]]] = {}
        self._by_size: dict[int, list[ReleaseFile]] = {}
        for release, file in card_files(catalog):
            for kind in ("blake3", "sha256", "sha1", "md5"):
                if digest := getattr(file, kind):
                    self._by_hash.setdefault((kind, digest), (release, file))
            self._by_name.setdefault(file.name.casefold(), []).append((release, file))
            if file.size is not None:
                self._by_size.setdefault(file.size, []).append(file)

    def named(self, name: str) -> list[tuple[Release, ReleaseFile]]:
        """Return the files that bear a name, whatever its case."""
        return self._by_name.get(name.casefold(), [])

    def hashes_wanted(self, name: str, size: int) -> frozenset[str]:
        """Return which hashes beside BLAKE3 the cards have of files of this size or name."""
        candidates = [*self._by_size.get(size, ()), *(file for _, file in self.named(name))]
        return frozenset(
            kind
            for kind in ("sha256", "sha1", "md5")
            if any(getattr(file, kind) for file in candidates)
        )

    def recognise(self, hashes: Hashes) -> Recognised | None:
        """Return the release that a file is by its hashes, or None where no card knows them.

        SHA-1 and MD5 only count where the card has no better hash.
        """
        known = {"blake3": str(hashes.digest), **hashes.others}
        for kind in ("blake3", "sha256", "sha1", "md5"):
            found = self._by_hash.get((kind, known.get(kind, "")))
            if found is None:
                continue
            release, file = found
            better = [each for each in ("blake3", "sha256") if getattr(file, each)]
            if kind in ("blake3", "sha256") or not better:
                return Recognised(release=release, file=file, by=kind)
        return None

    def mismatch(self, name: str, size: int) -> str:
        """Say why an archive that bears a card's file name is not that file, or return nothing.

        For an archive that was not recognised: its name is known and its hash is not.
        """
        for release, file in self.named(name):
            said = f"{release.name} has a file of that name"
            where = place_of(release.source)
            if file.size is not None and file.size != size:
                return f"{said} with {file.size:,} bytes, and this has {size:,} ({where})"
            if file.blake3 or file.sha256:
                return f"{said} with another hash ({where})"
        return ""


def card_files(catalog: Catalog) -> Iterator[tuple[Release, ReleaseFile]]:
    """Yield every file that a card names, with its release."""
    for mod in catalog.mods.values():
        for release in mod.releases:
            for file in release.all_files:
                yield release, file
