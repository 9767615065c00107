"""Reading a card: ``cards/ID.toml``."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import partial
from urllib.parse import urlsplit

from rellum.core.catalog.model import KINDS, Mod, Release, Whole
from rellum.core.catalog.news_sources import read_news
from rellum.core.catalog.options import read_options
from rellum.core.catalog.patches import Said, complete_patches
from rellum.core.catalog.places import (
    read_chosen,
    read_obsolete,
    read_patterns,
    read_place,
    read_settings_rules,
)
from rellum.core.catalog.play_rules import BreaksSaves, PlayRule, read_play
from rellum.core.catalog.release_rules import FileEdit, ReleaseFile, Source
from rellum.core.catalog.statements import (
    Orderings,
    read_clashes,
    read_made_for,
    read_needs,
    read_offers,
)
from rellum.core.catalog.tables import Fault, TableReader
from rellum.core.catalog.written_ids import parse_digest, parse_id
from rellum.core.values.ids import ModId
from rellum.core.values.paths import PlacePath, parse_place_path
from rellum.core.versions.orderings import DOTTED, LISTED, SCHEMES, Ordering, parse_version
from rellum.core.versions.ranges import parse_range

PlaceFolders = Mapping[str, PlacePath]


@dataclass(frozen=True, slots=True)
class _Reading:
    """What every part of a card is read with."""

    mod: ModId
    ordering: Ordering
    places: PlaceFolders
    orderings: Orderings


def read_card(
    table: dict[str, object],
    file: str,
    places: PlaceFolders,
    orderings: Orderings,
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
        head.fault(f"{kind!r} is not a kind; use one of {', '.join(KINDS)}", "kind")
    licence = head.text("licence", "CC-BY-4.0") or ""
    own_id = head.text("own-id", "Harbour:Tides") or ""
    scheme = head.text("versions", DOTTED.scheme) or DOTTED.scheme
    if scheme not in SCHEMES:
        known = ", ".join(SCHEMES)
        head.fault(f"{scheme!r} is not a version ordering; use {known}", "versions")
    head.finish()
    reading = _Reading(ModId(mod_id or ""), find_ordering(table)[1], places, orderings)
    said = [each for reader in root.tables("release") for each in _read_release(reader, reading)]
    if "release" not in root:
        root.fault("there is no [[release]]")
    news = read_news(root)
    options = read_options(root, reading.ordering, orderings)
    root.finish()
    releases = complete_patches(said, faults)
    if len(faults) > before or mod_id is None or name is None:
        return None
    return Mod(
        id=ModId(mod_id),
        name=name,
        kind=next(each for each in KINDS if each == kind),
        licence=licence,
        ordering=reading.ordering,
        releases=tuple(sorted(releases, key=lambda each: each.version, reverse=True)),
        options=options,
        source=source,
        own_id=own_id,
        news=news,
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


def _read_release(reader: TableReader, reading: _Reading) -> list[Said]:
    """Read a release, as one value for each of its builds."""
    version_of = partial(parse_version, ordering=reading.ordering)
    version = reader.parsed("version", "3.2", version_of, required=True)
    patches = reader.parsed("patches", "3.2", version_of)
    withdrawn = reader.text("withdrawn", "damages saved games") or ""
    builds = reader.tables("build")
    make = partial(
        Release,
        mod=reading.mod,
        version=version or parse_version("0"),  # a fault is noted; go on and find the others
        patches=patches,
        withdrawn=withdrawn,
        source=reader.source,
    )
    release = _read_body(reader, make, reading)
    if not builds:
        return [Said(release, reader.keys, version is not None)]
    names = [build.parsed("name", "harbour", parse_id, required=True) or "" for build in builds]
    for index, name in enumerate(names):
        if name and name in names[:index]:
            builds[index].fault(f"the build {name!r} appears twice here", "name")
    said = []
    for build, name in zip(builds, names, strict=True):
        body = _read_body(build, partial(replace, release, source=build.source), reading)
        whole = replace(_merged(release, body), build=name)
        said.append(Said(whole, reader.keys | build.keys, version is not None))
    return said


def _read_body(reader: TableReader, make: Callable[..., Release], reading: _Reading) -> Release:
    """Read what a release and a build can both say; ``make`` makes a release of it and the rest."""
    game = reader.text("game", ">=1.5, <1.7")
    if game is not None:
        reader.convert(game, parse_range, "game")
    body = make(
        game=game,
        editions=reader.texts("editions", "boxed") if "editions" in reader else None,
        needs=read_needs(reader, reading.orderings),
        clashes=read_clashes(reader, reading.orderings),
        offers=read_offers(reader, reading.orderings),
        made_for=read_made_for(reader),
        check_by_hand=reader.texts("check-by-hand", "a graphics driver from 2023 or later"),
        carry=read_patterns(reader, "carry", reading.places),
        settings=read_settings_rules(reader.table("settings"), reading.places),
        removes=read_patterns(reader, "removes", reading.places),
        obsolete=read_obsolete(reader, reading.places),
        files=tuple(file for each in reader.tables("file") if (file := _read_file(each))),
        places=tuple(
            rule for each in reader.tables("place") if (rule := read_place(each, reading.places))
        ),
        edits=_read_edits(reader, reading),
        plays=tuple(
            play for each in reader.tables("play") if (play := _read_program(each, reading))
        ),
    )
    if "was" in reader:
        body = replace(body, was=_read_was(reader.table("was"), reading))
    if "breaks-saves" in reader:
        body = _with_broken_saves(body, reader.table("breaks-saves"), reading)
    if "expansions" in reader:
        body = _with_expansions(body, reader.table("expansions"))
    if "load" in reader:
        body = _with_load_hints(body, reader.table("load"))
    if "full" in reader:
        body = replace(body, full=_read_whole(reader.table("full"), reading))
        if body.patches is None:
            reader.fault("only a patch can also be offered in full: write 'patches'", "full")
    reader.finish()
    return body


def _read_whole(reader: TableReader, reading: _Reading) -> Whole:
    whole = Whole(
        files=tuple(file for each in reader.tables("file") if (file := _read_file(each))),
        places=tuple(
            rule for each in reader.tables("place") if (rule := read_place(each, reading.places))
        ),
        edits=_read_edits(reader, reading),
        source=reader.source,
    )
    reader.finish()
    return whole


def _read_program(reader: TableReader, reading: _Reading) -> PlayRule | None:
    rule = read_play(reader, reading.places)
    reader.finish()
    return rule


def _read_was(reader: TableReader, reading: _Reading) -> tuple[tuple[PlacePath, PlacePath], ...]:
    """Read ``was = { "@settings/tides/" = "@settings/tidal/" }``: a path, and what it was called."""
    parse = partial(parse_place_path, places=reading.places)
    found = []
    for new in reader.names():
        old = reader.text(new, "@settings/tidal/")
        parsed = reader.convert(new.rstrip("/"), parse, new)
        before = reader.convert(old.rstrip("/"), parse, new) if old is not None else None
        if parsed is not None and before is not None:
            found.append((parsed, before))
    return tuple(found)


def _with_broken_saves(release: Release, reader: TableReader, reading: _Reading) -> Release:
    parse = partial(parse_range, ordering=reading.ordering)
    of = reader.text("of", "<3.0", required=True)
    if of is not None:
        reader.convert(of, parse, "of")
    back = reader.flag("back")
    reader.finish()
    return release if of is None else replace(release, breaks_saves=BreaksSaves(of=of, back=back))


def _with_expansions(release: Release, reader: TableReader) -> Release:
    with_expansions = replace(
        release,
        expansions_needed=reader.texts("needs", "ice-charts"),
        expansions_forbidden=reader.texts("forbids", "deep-trench"),
        expansions_used=reader.texts("shows-more-with", "deep-trench"),
    )
    reader.finish()
    return with_expansions


def _with_load_hints(release: Release, reader: TableReader) -> Release:
    at = reader.text("at", "first") or ""
    if at not in ("", "first", "last"):
        reader.fault(f"{at!r} is neither first nor last", "at")
    with_hints = replace(
        release,
        load_after=tuple(map(ModId, reader.texts("after", "long-swell"))),
        load_before=tuple(map(ModId, reader.texts("before", "long-swell"))),
        load_end="first" if at == "first" else "last" if at == "last" else "",
    )
    reader.finish()
    return with_hints


def _merged(release: Release, build: Release) -> Release:
    """Return a build with what its release says for all builds."""
    game = release.game
    if build.game is not None:
        game = build.game if game is None else str(parse_range(game) & parse_range(build.game))
    editions = release.editions
    if build.editions is not None:
        both = build.editions if editions is None else set(editions).intersection(build.editions)
        editions = tuple(sorted(both))
    return replace(
        build,
        game=game,
        editions=editions,
        expansions_needed=release.expansions_needed + build.expansions_needed,
        expansions_forbidden=release.expansions_forbidden + build.expansions_forbidden,
        expansions_used=release.expansions_used + build.expansions_used,
        needs=release.needs + build.needs,
        clashes=release.clashes + build.clashes,
        offers=release.offers + build.offers,
        made_for=release.made_for + build.made_for,
        check_by_hand=release.check_by_hand + build.check_by_hand,
        load_after=release.load_after + build.load_after,
        load_before=release.load_before + build.load_before,
        load_end=build.load_end or release.load_end,
        carry=release.carry + build.carry,
        settings=release.settings + build.settings,
        removes=release.removes + build.removes,
        obsolete=release.obsolete + build.obsolete,
        files=release.files + build.files,
        places=release.places + build.places,
        edits=release.edits + build.edits,
        full=build.full or release.full,
        plays=release.plays + build.plays,
        breaks_saves=build.breaks_saves or release.breaks_saves,
        was=release.was + build.was,
    )


def _read_file(reader: TableReader) -> ReleaseFile | None:
    name = reader.text("name", "tidal_currents_3_2_full.zip", required=True)
    size = reader.integer("size", 48211)
    sha256 = reader.parsed("sha256", "64 hexadecimal digits", parse_digest)
    blake3 = reader.parsed("blake3", "64 hexadecimal digits", parse_digest)
    sha1 = reader.parsed("sha1", "40 hexadecimal digits", partial(parse_digest, digits=40))
    md5 = reader.parsed("md5", "32 hexadecimal digits", partial(parse_digest, digits=32))
    urls = reader.texts("from", "https://files.example.invalid/tidal.zip")
    for index, url in enumerate(urls):
        if not url.startswith(("https://", "http://", "file:")):
            reader.fault(f"{url!r} begins with neither https://, http:// nor file:", "from", index)
            continue
        try:
            urlsplit(url)
        except ValueError as error:
            reader.fault(f"{url!r} is not a valid address: {error}", "from", index)
    by_hand = reader.text("by-hand", "Sign in and press Get.") or ""
    page = reader.text("page", "https://files.example.invalid/tidal") or ""
    unpacked = reader.integer("unpacked", 310_000)
    options = read_chosen(reader)
    reader.finish()
    if name is None:
        return None
    return ReleaseFile(
        name=name,
        size=size,
        sha256=sha256,
        blake3=blake3,
        urls=urls,
        by_hand=by_hand,
        page=page,
        sha1=sha1,
        md5=md5,
        unpacked=unpacked,
        options=options,
    )


def _read_edits(reader: TableReader, reading: _Reading) -> tuple[FileEdit, ...]:
    if "edit" not in reader:
        return ()
    from rellum.core.catalog.edits import read_edit  # rare, and its forms take a while to import

    found = (read_edit(each, reading.places, read_chosen(each)) for each in reader.tables("edit"))
    return tuple(edit for edit in found if edit)
