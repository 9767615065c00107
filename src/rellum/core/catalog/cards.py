"""Reading a card: ``cards/ID.toml``."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import partial

from rellum.core.catalog.model import (
    KINDS,
    Mod,
    PlaceRule,
    Release,
    ReleaseFile,
    Requirement,
    Source,
)
from rellum.core.catalog.sheets import parse_digest, parse_id
from rellum.core.catalog.tables import Fault, TableReader
from rellum.core.ids import ModId
from rellum.core.nearest import nearest
from rellum.core.paths import PlacePath, fault_in_relative, parse_place_path
from rellum.core.versions.orderings import DOTTED, LISTED, SCHEMES, Ordering, parse_version
from rellum.core.versions.ranges import parse_range

INHERITED = ("game", "editions", "expansions", "needs", "clashes", "load", "carry")
"""What a patch takes from the release that it patches where it says nothing itself."""


def read_card(
    table: dict[str, object],
    file: str,
    places: Mapping[str, PlacePath],
    orderings: Mapping[str, Ordering],
    faults: list[Fault],
) -> Mod | None:
    """Read a card's table, noting every fault. None where there was one.

    ``orderings`` tell how the versions of all mods compare: ranges are read by them.
    """
    before = len(faults)
    source = Source(file=file)
    root = TableReader(table, source, faults)
    head = root.table("mod", required=True)
    mod_id = head.parsed("id", "tidal-currents", parse_id, required=True)
    name = head.text("name", "Tidal Currents", required=True)
    kind = head.text("kind", "mod") or "mod"
    if kind not in KINDS:
        head.fault(f"{kind!r} is no kind; it is one of {', '.join(KINDS)}", "kind")
    licence = head.text("licence", "CC-BY-4.0") or ""
    scheme = head.text("versions", DOTTED.scheme) or DOTTED.scheme
    if scheme not in SCHEMES:
        known = ", ".join(SCHEMES)
        head.fault(
            f"{scheme!r} is no ordering of versions that Rellum knows; write {known}", "versions"
        )
    head.finish()
    ordering = find_ordering(table)[1]
    releases = []
    for reader in root.tables("release"):
        release = _read_release(reader, ModId(mod_id or ""), ordering, places, orderings)
        if release is not None:
            releases.append((release, frozenset(key for key in INHERITED if key in reader)))
    if "release" not in root:
        root.fault("there is no [[release]]")
    root.finish()
    completed = _complete_patches(releases, faults)
    if len(faults) > before or mod_id is None or name is None:
        return None
    return Mod(
        id=ModId(mod_id),
        name=name,
        kind=next(each for each in KINDS if each == kind),
        licence=licence,
        ordering=ordering,
        releases=tuple(sorted(completed, key=lambda each: each.version, reverse=True)),
        source=source,
    )


def find_ordering(table: Mapping[str, object]) -> tuple[str, Ordering]:
    """Return a card's id and how its versions compare, from its raw table, whatever is wrong in it.

    Done for all cards before the first is read in full: a range in one card follows the ordering of
    the mod that it speaks of.
    """
    head, releases = table.get("mod"), table.get("release")
    head = head if isinstance(head, dict) else {}
    mod_id, scheme = str(head.get("id", "")), head.get("versions")
    if scheme == LISTED:
        texts = [
            str(each["version"])
            for each in (releases if isinstance(releases, list) else [])
            if isinstance(each, dict) and "version" in each
        ]
        return mod_id, Ordering(LISTED, tuple(dict.fromkeys(texts)))
    return mod_id, Ordering(scheme) if scheme in SCHEMES else DOTTED


def _read_release(
    reader: TableReader,
    mod_id: ModId,
    ordering: Ordering,
    places: Mapping[str, PlacePath],
    orderings: Mapping[str, Ordering],
) -> Release | None:
    version_of = partial(parse_version, ordering=ordering)
    version = reader.parsed("version", "3.2", version_of, required=True)
    game = reader.parsed("game", ">=1.5, <1.7", parse_range)
    editions = reader.texts("editions", "boxed") if "editions" in reader else None
    expansions = reader.table("expansions")
    needed = expansions.texts("needs", "ice-charts")
    used = expansions.texts("shows-more-with", "deep-trench")
    expansions.finish()
    load = reader.table("load")
    after, before = load.texts("after", "long-swell"), load.texts("before", "long-swell")
    load.finish()
    carry = reader.texts("carry", "@settings/tides.ini")
    patches = reader.parsed("patches", "3.2", version_of)
    needs = _read_requirements(reader.table("needs"), orderings)
    clashes = _read_requirements(reader.table("clashes"), orderings)
    files = tuple(file for each in reader.tables("file") if (file := _read_file(each)) is not None)
    rules = tuple(
        rule for each in reader.tables("place") if (rule := _read_place(each, places)) is not None
    )
    reader.finish()
    if version is None:
        return None
    return Release(
        mod=mod_id,
        version=version,
        game=game,
        editions=editions,
        expansions_needed=needed,
        expansions_used=used,
        needs=needs,
        clashes=clashes,
        load_after=tuple(ModId(each) for each in after),
        load_before=tuple(ModId(each) for each in before),
        carry=carry,
        files=files,
        places=rules,
        patches=patches,
        source=reader.source,
    )


def _read_requirements(
    reader: TableReader, orderings: Mapping[str, Ordering]
) -> tuple[Requirement, ...]:
    found = []
    for mod in reader.names():
        reader.convert(mod, parse_id, mod)
        text = reader.text(mod, ">=2.1, <3")
        range_of = partial(parse_range, ordering=orderings.get(mod, DOTTED))
        range_ = None if text is None else reader.convert(text, range_of, mod)
        if range_ is not None:
            found.append(Requirement(mod=ModId(mod), range=range_, source=reader.source.at(mod)))
    return tuple(found)


def _read_file(reader: TableReader) -> ReleaseFile | None:
    name = reader.text("name", "tidal_currents_3_2_full.zip", required=True)
    size = reader.integer("size", 48211)
    sha256 = reader.parsed("sha256", "64 hexadecimal digits", parse_digest)
    blake3 = reader.parsed("blake3", "64 hexadecimal digits", parse_digest)
    if "sha256" not in reader and "blake3" not in reader:
        reader.fault("a file needs 'sha256' or 'blake3': without a hash it cannot be trusted")
    urls = reader.texts("from", "https://files.example.invalid/tidal.zip")
    by_hand = reader.text("by-hand", "Sign in and press Get.") or ""
    reader.finish()
    if name is None:
        return None
    return ReleaseFile(
        name=name, size=size, sha256=sha256, blake3=blake3, urls=urls, by_hand=by_hand
    )


def _read_place(reader: TableReader, places: Mapping[str, PlacePath]) -> PlaceRule | None:
    take = reader.parsed("take", "TidalCurrents/**", _checked_glob) or "**"
    to = reader.parsed(
        "to", "@mods/tidal-currents/", partial(parse_place_path, places=places), required=True
    )
    expect = reader.texts("expect", "tides.dat")
    for index, text in enumerate(expect):
        if fault := fault_in_relative(text.rstrip("/")):
            reader.fault(f"{text!r} cannot be expected: {fault}", "expect", index)
    reader.finish()
    if to is None:
        return None
    return PlaceRule(take=take, to=to, expect=expect, source=reader.source)


def _checked_glob(text: str) -> str:
    plain = text.replace("*", "x").replace("?", "x")
    if fault := fault_in_relative(plain.rstrip("/")):
        raise ValueError(f"{text!r} is not a pattern over an archive's files: {fault}")
    return text + "**" if text.endswith("/") else text


def _complete_patches(
    releases: list[tuple[Release, frozenset[str]]], faults: list[Fault]
) -> list[Release]:
    """Give each patch what it inherits, and note doubles and patches of what is not there."""
    by_version: dict[object, Release] = {}
    for release, _ in releases:
        if release.version in by_version:
            faults.append(_fault(release, f"version {release.version} stands here twice"))
        by_version[release.version] = release
    completed = []
    for release, said in releases:
        if release.patches is None:
            completed.append(release)
            continue
        full = by_version.get(release.patches)
        if full is None or full.patches is not None:
            known = [str(each.version) for each, _ in releases if each.patches is None]
            faults.append(
                _fault(
                    release,
                    f"'patches' names {release.patches}, which is no full release of this card"
                    + nearest(str(release.patches), known),
                    "patches",
                )
            )
            continue
        completed.append(_inherit(release, full, said))
    return completed


def _inherit(patch: Release, full: Release, said: frozenset[str]) -> Release:
    def pick(key: str) -> Release:
        return patch if key in said else full

    return replace(
        patch,
        game=pick("game").game,
        editions=pick("editions").editions,
        expansions_needed=pick("expansions").expansions_needed,
        expansions_used=pick("expansions").expansions_used,
        needs=pick("needs").needs,
        clashes=pick("clashes").clashes,
        load_after=pick("load").load_after,
        load_before=pick("load").load_before,
        carry=pick("carry").carry,
    )


def _fault(release: Release, message: str, key: str = "version") -> Fault:
    return Fault(source=release.source.at(key), message=message)
