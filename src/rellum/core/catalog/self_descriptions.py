"""How a game's mods describe themselves, as its sheet says it: ``[[self-description]]``."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Final, Literal, get_args

from rellum.core.catalog.places import checked_glob
from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.tables import TableReader

OWN_FORMS: Final = ("json", "toml", "xml", "ini", "properties", "headers", "lines")
NOTATION_NAMES: Final = (
    "at-least", "exactly", "beginning", "comparators", "semver", "intervals",
)  # fmt: skip
StatementKind = Literal["game", "needs", "clashes", "load-after"]
STATEMENT_KINDS: Final[tuple[StatementKind, ...]] = get_args(StatementKind)
FOLDER: Final = "folder"
"""Stands for the name of the folder that the file lies in."""

KeyNames = tuple[str, ...]
"""The keys that lead to a value, from the outside in."""


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnStatement:
    """Where a mod says which game it is for, or what it needs, clashes with or loads after.

    at: the keys to a table, a list of tables, or texts
    where: what a table must say to count
    id, range: keys in each of them, the first that is there; without ``id``, a table's keys are the ids
    split: what stands between several statements in one text
    pattern: finds ``id`` and ``range`` in a text
    notation: how its ranges are written
    is_hint: a mod that is loaded before, if it is there, and is not needed
    """

    kind: StatementKind
    at: KeyNames
    where: tuple[tuple[str, str], ...] = ()
    id: KeyNames = ()
    range: KeyNames = ()
    split: str = ""
    pattern: str = ""
    notation: str = "comparators"
    is_hint: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class SelfDescription:
    """One form in which mods of a game describe themselves.

    file: pattern of the file in the archive; the shallowest that fits counts
    only: what the file must say to be one
    id, name, version, licence: keys to each; several ways, the first that is there counts
    patterns: what of a value counts, by which value it is
    own: ids that the game itself brings
    identity: keys to the values by which the game tells one mod from another
    """

    file: str
    form: str
    id: tuple[KeyNames, ...]
    name: tuple[KeyNames, ...] = ()
    version: tuple[KeyNames, ...] = ()
    licence: tuple[KeyNames, ...] = ()
    only: tuple[tuple[str, str], ...] = ()
    patterns: tuple[tuple[str, str], ...] = ()
    own: tuple[str, ...] = ()
    identity: tuple[KeyNames, ...] = ()
    statements: tuple[OwnStatement, ...] = ()
    source: Source


def read_self_descriptions(root: TableReader) -> tuple[SelfDescription, ...]:
    """Read every ``[[self-description]]``, noting every fault."""
    found = (_read(reader) for reader in root.tables("self-description"))
    return tuple(each for each in found if each)


def _read(reader: TableReader) -> SelfDescription | None:
    file = reader.parsed("file", "about-mod.json", checked_glob, required=True)
    form = reader.text("form", "json", required=True)
    if form is not None and form not in OWN_FORMS:
        reader.fault(f"{form!r} is not a form; use one of {', '.join(OWN_FORMS)}", "form")
    ids = _read_ways(reader, "id")
    if not ids:
        reader.fault("'id' is missing; write the keys that lead to it, e.g. id = [\"id\"]")
    found = SelfDescription(
        file=file or "",
        form=form or "json",
        id=ids,
        name=_read_ways(reader, "name"),
        version=_read_ways(reader, "version"),
        licence=_read_ways(reader, "licence"),
        only=_read_texts_by_name(reader, "only"),
        patterns=_read_patterns(reader),
        own=reader.texts("own", "base-game"),
        identity=_read_ways(reader, "identity"),
        statements=tuple(
            statement
            for kind in STATEMENT_KINDS
            for each in reader.tables(kind)
            if (statement := _read_statement(kind, each))
        ),
        source=reader.source,
    )
    reader.finish()
    return found if file and form in OWN_FORMS and ids else None


def _read_ways(reader: TableReader, key: str) -> tuple[KeyNames, ...]:
    """Read keys that lead to a value: ``"folder"``, a list of keys, or a list of such lists."""
    if key not in reader:
        return ()
    value = reader.value(key)
    ways = value if _is_list_of_lists(value) else [value]
    found: list[KeyNames] = []
    for way in ways if isinstance(ways, list) else []:
        names = [way] if isinstance(way, str) else way
        if not isinstance(names, list) or not names or not all(isinstance(n, str) for n in names):
            reader.fault('write keys from the outside in, e.g. ["mod", "id"], or "folder"', key)
            return ()
        found.append(tuple(names))
    return tuple(found)


def _is_list_of_lists(value: object) -> bool:
    return isinstance(value, list) and any(isinstance(each, list) for each in value)


def _read_texts_by_name(reader: TableReader, key: str) -> tuple[tuple[str, str], ...]:
    if key not in reader:
        return ()
    table = reader.table(key)
    return tuple(
        (name, text) for name in table.names() if (text := table.text(name, "x")) is not None
    )


def _read_patterns(reader: TableReader) -> tuple[tuple[str, str], ...]:
    said = _read_texts_by_name(reader, "pattern")
    for name, pattern in said:
        if name not in ("id", "name", "version", "licence"):
            reader.fault(f"{name!r} is none of id, name, version, licence", "pattern", name)
        reader.convert(pattern, partial(checked_pattern, groups=()), "pattern", name)
    return said


def checked_pattern(text: str, groups: Sequence[str] = ()) -> str:
    """Check a regular expression and the groups that it must name. Raises ValueError."""
    import regex

    try:
        found = regex.compile(text)
    except regex.error as error:
        raise ValueError(f"the pattern is wrong: {error}") from error
    if lacking := [each for each in groups if each not in found.groupindex]:
        raise ValueError(f"the pattern names no group {lacking[0]!r}: (?P<{lacking[0]}>…)")
    return text


def _read_statement(kind: StatementKind, reader: TableReader) -> OwnStatement | None:
    at = reader.texts("at", "depends")
    if not at:
        reader.fault("'at' is missing; write the keys that lead to it, e.g. at = [\"depends\"]")
    notation = reader.text("notation", "comparators") or "comparators"
    if notation not in NOTATION_NAMES:
        reader.fault(f"{notation!r} is not a notation; use {', '.join(NOTATION_NAMES)}", "notation")
    pattern = ""
    if "pattern" in reader:
        groups = ("range",) if kind == "game" else ("id",)
        pattern = (
            reader.parsed("pattern", "(?P<id>.+)", partial(checked_pattern, groups=groups)) or ""
        )
    found = OwnStatement(
        kind=kind,
        at=at,
        where=_read_texts_by_name(reader, "where"),
        id=_read_keys(reader, "id"),
        range=_read_keys(reader, "range"),
        split=_read_split(reader),
        pattern=pattern,
        notation=notation,
        is_hint=reader.flag("hint"),
    )
    reader.finish()
    return found if at and notation in NOTATION_NAMES else None


def _read_split(reader: TableReader) -> str:
    """Read what stands between several statements, which may be a blank."""
    if reader.holds("split", str) and reader.value("split") == " ":
        return " "
    return reader.text("split", ",") or ""


def _read_keys(reader: TableReader, key: str) -> KeyNames:
    """Read one key, or several of which the first that is there counts."""
    if key not in reader:
        return ()
    if reader.holds(key, str):
        return (reader.text(key, "id") or "",)
    return reader.texts(key, "id")
