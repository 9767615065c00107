"""The rules in a game sheet for laying files: places, names, containers, load order."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from functools import partial
from typing import Final, Literal, get_args

from rellum.core.catalog.known import KnownBaseline
from rellum.core.catalog.model import (
    ContainerRule,
    LoadOrderFile,
    LoadOrderForm,
    NameRule,
)
from rellum.core.catalog.places import checked_glob, read_patterns
from rellum.core.catalog.tables import TableReader
from rellum.core.values.paths import (
    GAME,
    PlacePath,
    fault_in_relative,
    parse_place_path,
    parse_place_pattern,
)
from rellum.core.versions.orderings import parse_version

SYSTEMS: Final = ("linux", "windows", "macos")
USER_FOLDERS: Final = ("home", "documents", "config", "data")
"""The user's own folders, as places outside the game name them."""

PLACE_NAME = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*\Z")
_USER_FOLDER = re.compile(r"\{([^{}]*)\}")

SumForm = Literal["blake3", "sha256"]
SUM_FORMS: Final[tuple[SumForm, ...]] = ("blake3", "sha256")

Places = Mapping[str, PlacePath]
Outside = Mapping[str, Mapping[str, str]]


def read_places(reader: TableReader) -> tuple[dict[str, PlacePath], dict[str, dict[str, str]]]:
    """Read the places: those in the game folder, and the folders of those outside of it by system."""
    places: dict[str, PlacePath] = {}
    outside: dict[str, dict[str, str]] = {}
    for name in reader.names():
        if not PLACE_NAME.match(name) or name == GAME[1:]:
            reader.fault(f"{name!r} cannot name a place", name)
        elif reader.holds(name, dict):
            outside[f"@{name}"] = _read_by_system(reader.table(name))
            places[name] = PlacePath(f"@{name}")
        elif (text := reader.text(name, "@game/mods")) is None:
            continue
        elif text.startswith("{"):
            outside[f"@{name}"] = dict.fromkeys(SYSTEMS, _checked_template(reader, text, name))
            places[name] = PlacePath(f"@{name}")
        elif path := reader.convert(text, partial(parse_place_path, places={}), name):
            places[name] = path
    return places, outside


def _read_by_system(reader: TableReader) -> dict[str, str]:
    found = {}
    for system in SYSTEMS:
        text = reader.text(system, "{documents}/Fathomline")
        if text is not None:
            found[system] = _checked_template(reader, text, system)
    reader.finish()
    return found


def _checked_template(reader: TableReader, text: str, key: str) -> str:
    head, _, rest = text.partition("/")
    found = _USER_FOLDER.fullmatch(head)
    if found is None or found[1] not in USER_FOLDERS or "{" in rest:
        known = ", ".join(f"{{{each}}}" for each in USER_FOLDERS)
        reader.fault(f"{text!r} does not begin with a folder of the user's ({known})", key)
    elif fault := fault_in_relative(rest):
        reader.fault(f"{text!r} does not name a folder in {head} that can be a place: {fault}", key)
    return text


def read_names(reader: TableReader, places: Places) -> dict[str, NameRule]:
    """Read ``[names]``: names that must follow a file of the game."""
    names: dict[str, NameRule] = {}
    for name in reader.names():
        table = reader.table(name)
        pattern = table.parsed(
            "of", "@game/worlds/*.world", partial(parse_place_pattern, places=places), required=True
        )
        with_ending = table.flag("with-ending")
        table.finish()
        if not PLACE_NAME.match(name):
            reader.fault(
                f"{name!r} is not a valid name; use small letters, digits and hyphens", name
            )
        elif pattern is not None:
            names[name] = NameRule(pattern=pattern, with_ending=with_ending, source=table.source)
    return names


def read_containers(root: TableReader, places: Places) -> tuple[ContainerRule, ...]:
    """Read ``[[container]]``: what goes from a container that is changed."""
    rules = []
    for reader in root.tables("container"):
        pattern = reader.parsed(
            "file", "@data/*.pak", partial(parse_place_pattern, places=places), required=True
        )
        drops = reader.texts("drop", "signs/*.sig")
        for index, each in enumerate(drops):
            reader.convert(each, checked_glob, "drop", index)
        reader.finish()
        if pattern is not None:
            rules.append(ContainerRule(pattern=pattern, drops=drops))
    return tuple(rules)


def read_baselines(root: TableReader) -> tuple[KnownBaseline, ...]:
    """Read which vanilla versions are known file by file, and in which files of sums."""
    found = []
    for reader in root.tables("baseline"):
        version = reader.parsed("version", "1.6.0", parse_version, required=True)
        edition = reader.text("edition", "boxed")
        expansions = reader.texts("expansions", "ice-charts")
        sums = {form: reader.text(form, f"../baselines/1.6.0.{form}") for form in SUM_FORMS}
        named: dict[SumForm, str] = {form: name for form, name in sums.items() if name}
        if len(named) != 1:
            reader.fault('name one file of sums: blake3 = "…" or sha256 = "…"')
        reader.finish()
        if version is None or len(named) != 1:
            continue
        [(form, name)] = named.items()
        folder = os.path.dirname(reader.source.file)
        found.append(
            KnownBaseline(
                version=version,
                edition=edition,
                expansions=tuple(sorted(expansions)),
                form=form,
                file=os.path.normpath(os.path.join(folder, name)),
                source=reader.source,
            )
        )
    return tuple(found)


def read_load_order(root: TableReader, places: Places) -> LoadOrderFile | None:
    """Read ``[load-order]``: the file in which the game keeps its own load order."""
    if "load-order" not in root:
        return None
    reader = root.table("load-order")
    parse = partial(parse_place_path, places=places)
    path = reader.parsed("file", "@settings/load-order.txt", parse, required=True)
    profiles = reader.text("profiles", "@settings/profiles/")
    folder = reader.convert(profiles.rstrip("/"), parse, "profiles") if profiles else None
    form = reader.text("form", "lines", required=True)
    known = next((each for each in get_args(LoadOrderForm) if each == form), None)
    if form is not None and known is None:
        reader.fault(f"{form!r} is neither lines, json nor ini", "form")
    entries = read_patterns(reader, "entries", places)
    if "entries" not in reader:
        reader.fault("'entries' is missing; write e.g. entries = [\"@mods/*\"]")
    elif len(entries) > 1:
        reader.fault("one pattern tells what the entries are", "entries")
    key = reader.texts("key", "load-order")
    if known != "lines" and path is not None and not key:
        reader.fault("'key' is missing: the keys to the JSON list, or the INI file's section")
    value = reader.text("value", "on") or ""
    reader.finish()
    if path is None or known is None or not entries:
        return None
    return LoadOrderFile(
        path=path,
        form=known,
        entries=entries[0],
        key=key,
        value=value,
        source=reader.source,
        profiles=folder,
    )
