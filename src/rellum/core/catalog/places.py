"""The places in a card: what goes where, and how the files there are updated."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache, partial
from typing import get_args

from rellum.core.catalog.release_rules import ChosenOptions, PlaceRule, SettingsUpdate
from rellum.core.catalog.tables import TableReader
from rellum.core.values.paths import (
    PlacePath,
    fault_in_relative,
    parse_place_path,
    parse_place_pattern,
    parse_target_path,
)

_ONLY_OF_MEMBERS = ("expect", "leave-out", "strip", "rename")


def read_place(reader: TableReader, places: Mapping[str, PlacePath]) -> PlaceRule | None:
    """Read a ``[[release.place]]``, noting every fault; None where it cannot be used."""
    in_places = partial(parse_place_path, places=places)
    in_target = partial(parse_target_path, places=places)
    to = reader.parsed("to", "@mods/tidal-currents/", in_target, required=True)
    copy = reader.parsed("copy", "@data/sea.dat", in_places)
    text = reader.text("text", "quality = ${option.quality}")
    is_folder = reader.flag("folder")
    is_packed = reader.flag("packed")
    kinds = [key for key in ("packed", "take", "copy", "text", "folder") if key in reader]
    if len(kinds) > 1 and kinds != ["packed", "take"]:
        reader.fault(f"it is one of {', '.join(kinds)}: write a [[release.place]] for each")
    if kinds and kinds[0] != "take":
        for key in _ONLY_OF_MEMBERS:
            if key in reader:
                reader.fault(f"only for files from an archive, not with {kinds[0]!r}", key)
    take = reader.parsed("take", "TidalCurrents/**", checked_glob) or "**"
    expect = reader.texts("expect", "tides.dat")
    for index, each in enumerate(expect):
        if fault := fault_in_relative(each.rstrip("/")):
            reader.fault(f"{each!r} is not valid here: {fault}", "expect", index)
    leave_out = reader.texts("leave-out", "*.txt")
    for index, each in enumerate(leave_out):
        reader.convert(each, checked_glob, "leave-out", index)
    strip = reader.integer("strip", 1) or 0
    rename = read_renames(reader.table("rename"))
    options = read_chosen(reader)
    reader.finish()
    if to is None:
        return None
    return PlaceRule(
        take=take,
        to=to,
        expect=expect,
        source=reader.source,
        leave_out=leave_out,
        strip=strip,
        rename=rename,
        options=options,
        copy=copy,
        text=text,
        is_folder=is_folder,
        is_packed=is_packed,
    )


def read_renames(reader: TableReader) -> tuple[tuple[str, str], ...]:
    """Read patterns and what they become; each ``*`` on the right stands for one on the left."""
    renames = []
    for pattern in reader.names():
        becomes = reader.text(pattern, "sea_*.tex")
        if becomes is None:
            continue
        if becomes.count("*") > pattern.count("*"):
            reader.fault(f"{becomes!r} has more '*' than {pattern!r}", pattern)
        reader.convert(becomes, checked_glob, pattern)
        renames.append((pattern, becomes))
    return tuple(renames)


def read_patterns(
    reader: TableReader, key: str, places: Mapping[str, PlacePath]
) -> tuple[str, ...]:
    """Read a list of patterns over place paths."""
    parse = partial(parse_place_pattern, places=places)
    found = (
        reader.convert(text, parse, key, index)
        for index, text in enumerate(reader.texts(key, "@mods/tidal-currents/my_tides/**"))
    )
    return tuple(each for each in found if each is not None)


def read_obsolete(reader: TableReader, places: Mapping[str, PlacePath]) -> tuple[str, ...]:
    """Read patterns of left-overs; one that begins with ``**/`` is looked for under every place."""
    found: list[str] = []
    for index, text in enumerate(reader.texts("obsolete", "@mods/old_tides/**")):
        if text.startswith("**/"):
            reader.convert(text, checked_glob, "obsolete", index)
            found += sorted({f"{base}/{text}" for base in places.values()})
        elif pattern := reader.convert(
            text, partial(parse_place_pattern, places=places), "obsolete", index
        ):
            found.append(pattern)
    return tuple(found)


def read_settings_rules(
    reader: TableReader, places: Mapping[str, PlacePath]
) -> tuple[tuple[str, SettingsUpdate], ...]:
    """Read how files are brought up to date: ``"@settings/tides.ini" = "merge"``."""
    rules = []
    for text in reader.names():
        pattern = reader.convert(text, partial(parse_place_pattern, places=places), text)
        word = reader.text(text, "merge")
        known = next((each for each in get_args(SettingsUpdate) if each == word), None)
        if word is not None and known is None:
            reader.fault(f"{word!r} is neither replace, merge nor leave", text)
        if pattern is not None and known is not None:
            rules.append((pattern, known))
    return tuple(rules)


def read_chosen(reader: TableReader) -> ChosenOptions:
    """Read for which choices something is: ``options = { quality = "high" }``."""
    table = reader.table("options")
    found = ((group, table.text(group, "high")) for group in table.names())
    return tuple((group, choice) for group, choice in found if choice is not None)


@lru_cache(maxsize=4096)
def checked_glob(text: str) -> str:
    plain = text.replace("*", "x").replace("?", "x")
    if fault := fault_in_relative(plain.rstrip("/")):
        raise ValueError(f"{text!r} is not a pattern over an archive's files: {fault}")
    return text + "**" if text.endswith("/") else text
