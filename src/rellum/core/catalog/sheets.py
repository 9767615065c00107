"""Reading a game sheet: ``games/ID.toml``."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from rellum.core.catalog.model import GameSheet, Rule
from rellum.core.catalog.places import read_patterns, read_settings_rules
from rellum.core.catalog.play_rules import (
    NO_LOG,
    LogRules,
    PlayRule,
    checked_pattern,
    read_log_rules,
    read_play,
)
from rellum.core.catalog.press_rules import read_press_rules
from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.self_descriptions import read_self_descriptions
from rellum.core.catalog.sheet_rules import (
    read_baselines,
    read_containers,
    read_load_order,
    read_names,
    read_places,
)
from rellum.core.catalog.tables import Fault, TableReader
from rellum.core.catalog.written_ids import parse_digest, parse_id
from rellum.core.values.ids import SheetId
from rellum.core.values.path_rules import PathRules
from rellum.core.values.paths import PlacePath, parse_place_path
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.version import Version


def read_sheet(table: dict[str, object], file: str, faults: list[Fault]) -> GameSheet | None:
    """Read a game sheet's table, noting every fault. None where there was one."""
    before = len(faults)
    source = Source(file=file)
    root = TableReader(table, source, faults)
    game = root.table("game", required=True)
    sheet_id = game.parsed("id", "fathomline", parse_id, required=True)
    name = game.text("name", "Fathomline", required=True)
    places, outside = read_places(root.table("places"))
    marks = tuple(
        path
        for index, text in enumerate(game.texts("marks", "@game/fathomline.py"))
        if (path := game.convert(text, partial(parse_place_path, places=places), "marks", index))
    )
    if not marks and "marks" in game:
        game.fault("name at least one file that every copy of the game has", "marks")
    elif not marks:
        game.fault("'marks' is missing; write e.g. marks = [\"@game/fathomline.py\"]")
    own_files = read_patterns(game, "own-files", places)
    exact_keys = read_patterns(game, "exact-keys", places)
    carry = read_patterns(game, "carry", places)
    store_files = read_patterns(game, "store-files", places)
    rewrites = read_patterns(game, "rewrites", places)
    path_rules = PathRules(game.flag("folds-case"))
    saves_per_variant = game.flag("saves-per-variant")
    known_versions = _read_known_versions(game)
    game.finish()
    version_rules = _read_rules(root, "version", "is", places)
    edition_rules = _read_rules(root, "edition", "id", places)
    expansion_rules = _read_rules(root, "expansion", "id", places)
    names = read_names(root.table("names"), places)
    settings = read_settings_rules(root.table("settings"), places)
    containers = read_containers(root, places)
    load_order = read_load_order(root, places)
    baselines = read_baselines(root)
    self_descriptions = read_self_descriptions(root)
    play, log = _read_play(root, places)
    press = read_press_rules(root)
    root.finish()
    if len(faults) > before or sheet_id is None or name is None:
        return None
    return GameSheet(
        id=SheetId(sheet_id),
        name=name,
        marks=marks,
        version_rules=version_rules,
        edition_rules=edition_rules,
        expansion_rules=expansion_rules,
        known_versions=known_versions,
        places=places,
        own_files=own_files,
        exact_keys=exact_keys,
        source=source,
        outside=outside,
        path_rules=path_rules,
        names=names,
        carry=carry,
        saves_per_variant=saves_per_variant,
        settings=settings,
        containers=containers,
        load_order=load_order,
        baselines=baselines,
        store_files=store_files,
        rewrites=rewrites,
        self_descriptions=self_descriptions,
        play=play,
        log=log,
        press=press,
    )


def _read_play(
    root: TableReader, places: Mapping[str, PlacePath]
) -> tuple[PlayRule | None, LogRules]:
    if "play" not in root:
        return None, NO_LOG
    reader = root.table("play")
    play, log = read_play(reader, places), read_log_rules(reader, places)
    reader.finish()
    return play, log


def _read_known_versions(game: TableReader) -> tuple[Version, ...]:
    """Read the versions that the game has come out in; returned oldest first."""
    found = [
        version
        for index, text in enumerate(game.texts("versions", "1.6.0"))
        if (version := game.convert(text, parse_version, "versions", index))
    ]
    return tuple(sorted(set(found)))


def _read_rules(
    root: TableReader, key: str, answer_key: str, places: Mapping[str, PlacePath]
) -> tuple[Rule, ...]:
    rules = []
    for reader in root.tables(key):
        path = reader.parsed(
            "file", "@game/version.txt", partial(parse_place_path, places=places), required=True
        )
        pattern = reader.parsed("pattern", r"version (?P<version>[0-9.]+)", checked_pattern)
        blake3 = reader.parsed("blake3", "64 hexadecimal digits", parse_digest)
        sha256 = reader.parsed("sha256", "64 hexadecimal digits", parse_digest)
        from_pattern = key == "version" and pattern is not None and "(?P<version>" in pattern
        if key == "version":
            needs_answer = not from_pattern and (pattern is not None or "pattern" not in reader)
            answer = reader.parsed(answer_key, "1.6.0", _checked_version, required=needs_answer)
        else:
            answer = reader.parsed(answer_key, "boxed", parse_id, required=True)
            reader.text("name", "Boxed")
        reader.finish()
        if path is not None and (answer is not None or from_pattern):
            rules.append(
                Rule(
                    file=path,
                    pattern=pattern,
                    blake3=blake3,
                    sha256=sha256,
                    answer=answer or "",
                    source=reader.source,
                )
            )
    return tuple(rules)


def _checked_version(text: str) -> str:
    return parse_version(text).text
