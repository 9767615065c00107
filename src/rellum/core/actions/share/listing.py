"""What a pack is made of, for those who look at it from outside: mods, archives, hashes, licences, pages."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple
from uuid import NAMESPACE_URL, uuid5

from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.hashing import sha256_file
from rellum.core.pack.sameness import line_up_text
from rellum.core.shelf.store import Shelf


class ListedFile(NamedTuple):
    """An archive of a mod. Hashes are empty where nobody knows them; ``size`` is in bytes."""

    name: str
    size: int | None
    sha256: str
    blake3: str


class ListedMod(NamedTuple):
    """A release of the line-up. ``page`` is where people read about it; ``kind`` as its card says."""

    mod: str
    name: str
    version: str
    kind: str
    licence: str
    page: str
    needed_by: tuple[str, ...]
    files: tuple[ListedFile, ...]


class Listing(NamedTuple):
    """A pack's line-up from outside. ``line_up`` is the short text that stands for it."""

    pack: str
    game: str
    line_up: str
    mods: tuple[ListedMod, ...]


def listing_of(request: Request) -> Listing:
    """Return what a pack is made of. Raises NoLineUp, and what opening the pack can raise."""
    with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
        lock, catalog = opened.files.lock, opened.files.catalog
        mods = []
        for release in lock.releases:
            known = catalog.mods.get(release.mod)
            page = ""
            files = []
            for file in release.files:
                entry = shelf.find(file)
                sha256 = file.sha256 or (sha256_file(shelf.path_of(entry.digest)) if entry else "")
                blake3 = entry.digest if entry else file.blake3 or ""
                files.append(ListedFile(file.name, file.size, sha256, blake3))
                page = page or file.page or ""
            mods.append(
                ListedMod(
                    mod=release.mod,
                    name=known.name if known else release.mod,
                    version=release.label,
                    kind=known.kind if known else "mod",
                    licence=(known.licence or "") if known else "",
                    page=page,
                    needed_by=release.because,
                    files=tuple(files),
                )
            )
        game = f"{opened.state.identity().name} {lock.game_version.text}"
        return Listing(opened.files.pack.name, game, line_up_text(lock), tuple(mods))


def sums_text(listing: Listing) -> str:
    """Return the SHA-256 sums of all archives, as coreutils write them; one that nobody knows is left out."""
    lines = sorted({(file.name, file.sha256) for file in _files(listing) if file.sha256})
    return "".join(f"{sha256}  {name}\n" for name, sha256 in lines)


def _files(listing: Listing) -> Iterator[ListedFile]:
    for mod in listing.mods:
        yield from mod.files


def bill_text(listing: Listing) -> str:
    """Return the bill of materials, as CycloneDX 1.6 (ECMA-424) in JSON."""
    from cyclonedx.model.bom import Bom
    from cyclonedx.model.component import Component, ComponentType
    from cyclonedx.output.json import JsonV1Dot6

    bom = Bom(components=[_component(each) for each in listing.mods])
    bom.serial_number = uuid5(NAMESPACE_URL, f"rellum:{listing.pack}:{listing.line_up}")
    bom.metadata.component = Component(
        name=listing.pack,
        version=listing.line_up,
        type=ComponentType.APPLICATION,
        bom_ref="pack",
        description=f"A modpack for {listing.game}",
    )
    return str(JsonV1Dot6(bom).output_as_string(indent=2)) + "\n"


def _component(mod: ListedMod) -> Any:
    from cyclonedx.exception.factory import InvalidLicenseExpressionException
    from cyclonedx.factory.license import LicenseFactory
    from cyclonedx.model import ExternalReference, ExternalReferenceType, XsUri
    from cyclonedx.model.component import Component, ComponentType

    factory = LicenseFactory()
    licences = []
    if mod.licence:
        try:
            licences = [factory.make_from_string(mod.licence)]
        except InvalidLicenseExpressionException:
            licences = [factory.make_with_name(mod.licence)]
    pages = (
        [ExternalReference(type=ExternalReferenceType.WEBSITE, url=XsUri(mod.page))]
        if mod.page
        else []
    )
    return Component(
        name=mod.name,
        version=mod.version,
        type=ComponentType.LIBRARY,
        bom_ref=mod.mod,
        licenses=licences,
        external_references=pages,
        components=[_file_component(mod, each) for each in mod.files],
    )


def _file_component(mod: ListedMod, file: ListedFile) -> Any:
    from cyclonedx.model import HashAlgorithm, HashType
    from cyclonedx.model.component import Component, ComponentType

    hashes = [
        HashType(alg=algorithm, content=content)
        for algorithm, content in (
            (HashAlgorithm.SHA_256, file.sha256),
            (HashAlgorithm.BLAKE3, file.blake3),
        )
        if content
    ]
    return Component(
        name=file.name, type=ComponentType.FILE, bom_ref=f"{mod.mod}/{file.name}", hashes=hashes
    )
