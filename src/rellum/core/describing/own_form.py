"""Guessing how a game's mods describe themselves, from samples: which file, which keys, which notation."""

from __future__ import annotations

import os
import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

from rellum.core.catalog.open_lines import MARK
from rellum.core.describing.notations import Notation, NotRead, translate
from rellum.core.describing.own_files import Document, FileForm, NotReadable, read_own_file

SAMPLE_ENDINGS: Final[Mapping[str, FileForm]] = {
    ".json": FileForm("json"),
    ".toml": FileForm("toml"),
    ".xml": FileForm("xml"),
    ".ini": FileForm("ini"),
    ".properties": FileForm("properties"),
}
MOST_SAMPLE_BYTES: Final = 64 << 10
_KEYS: Final[Mapping[str, tuple[str, ...]]] = {
    "id": (
        "id",
        "@id",
        "modid",
        "mod_id",
        "mod-id",
        "uuid",
        "identifier",
        "internalname",
        "packageid",
    ),
    "name": ("title", "name", "@name", "displayname", "display_name", "label"),
    "version": ("version", "@version", "modversion", "mod_version"),
    "licence": ("license", "licence"),
    "game": (
        "game",
        "gameversion",
        "game_version",
        "game-version",
        "supportedversions",
        "requiresgame",
    ),
    "needs": ("depends", "dependencies", "requires", "needs", "requirements"),
    "clashes": ("conflicts", "incompatible", "incompatibilities", "breaks", "clashes"),
    "load-after": ("loadafter", "load_after", "load-after", "optionaldependencies"),
}
_IN_NEED: Final = ("id", "@id", "modid", "name", "mod")
_IN_RANGE: Final = ("version", "range", "min", "minversion", "@version", "versions", "atleast")
_NOTATIONS: Final = ("at-least", "comparators", "semver", "intervals")

IN_GAME: Final = "game:"
"""Begins the origin of samples that the game itself brings."""

_MOST_FORMS: Final = 3

Sample = tuple[str, str, bytes]
"""Which archive or folder it is from, the path of a file in it, and its content."""


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnForm:
    """A form of self-description: the sheet's table as text, what it rests on, and what it reads."""

    lines: tuple[str, ...]
    file: str
    samples: int
    read: tuple[tuple[str, str], ...]


def guess_own_forms(samples: Iterable[Sample]) -> tuple[OwnForm, ...]:
    """Return the forms in which samples describe themselves, the most frequent first.

    A form counts if files of that name with an id and a version are in two archives, or in the game.
    """
    by_name: dict[str, dict[str, tuple[str, Document]]] = defaultdict(dict)
    for origin, path, content in samples:
        form = SAMPLE_ENDINGS.get(os.path.splitext(path)[1].lower())
        if form is None or len(content) > MOST_SAMPLE_BYTES:
            continue
        try:
            document = read_own_file(content, form)
        except NotReadable:
            continue
        if _way(document, "id") and _way(document, "version"):
            by_name[os.path.basename(path)].setdefault(origin, (path, document))
    forms = [
        _form(name, [document for _, document in found.values()])
        for name, found in by_name.items()
        if len(found) > 1 or any(origin.startswith(IN_GAME) for origin in found)
    ]
    return tuple(sorted(forms, key=lambda each: (-each.samples, each.file))[:_MOST_FORMS])


def _form(name: str, documents: Sequence[Document]) -> OwnForm:
    form = SAMPLE_ENDINGS[os.path.splitext(name)[1].lower()]
    lines = ["[[self-description]]", f'file = "{name}"', f'form = "{form}"']
    for what in ("id", "name", "version", "licence"):
        if way := _common(documents, what):
            lines.append(f"{what} = [{', '.join(_quoted(key) for key in way)}]")
    for kind in ("game", "needs", "clashes", "load-after"):
        if way := _common(documents, kind):
            lines += ["", *_statement(kind, way, documents)]
    id_way, version_way = _common(documents, "id"), _common(documents, "version")
    read = tuple(
        (str(_at(each, id_way) or ""), str(_at(each, version_way) or "")) for each in documents[:3]
    )
    return OwnForm(lines=tuple(lines), file=name, samples=len(documents), read=read)


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _common(documents: Sequence[Document], what: str) -> tuple[str, ...]:
    """Return the keys that lead to a value in most of the samples."""
    ways = Counter(way for each in documents if (way := _way(each, what)))
    return ways.most_common(1)[0][0] if ways else ()


def _way(document: Document, what: str) -> tuple[str, ...]:
    """Return the keys that lead to a value with one of its usual names, the outermost first."""
    for way, table in _tables(document):
        for key in table:
            if key.lower() in _KEYS[what] and (
                what not in ("id", "version") or _is_text(table[key])
            ):
                return (*way, key)
    return ()


def _is_text(value: Any) -> bool:
    return isinstance(value, str | int | float) and not isinstance(value, bool)


def _tables(
    document: Document, depth: int = 2
) -> Iterator[tuple[tuple[str, ...], Mapping[str, Any]]]:
    if not isinstance(document, dict):
        return
    yield (), document
    if depth:
        for key, value in document.items():
            for way, table in _tables(value, depth - 1):
                yield (key, *way), table


def _at(document: Document, way: Sequence[str]) -> Any:
    for key in way:
        if not isinstance(document, dict):
            return None
        document = document.get(key)
    return document


def _statement(kind: str, way: Sequence[str], documents: Sequence[Document]) -> list[str]:
    """Return the table of one kind of statement, with the keys in it and the notation of its ranges."""
    values = [value for each in documents if (value := _at(each, way)) is not None]
    items = [each for value in values for each in (value if isinstance(value, list) else [value])]
    tables = [each for each in items if isinstance(each, dict)]
    lines = [f"[[self-description.{kind}]]", f"at = [{', '.join(map(_quoted, way))}]"]
    ranges: list[str] = []
    if tables and kind != "game":
        id_key = next((key for each in tables for key in each if key.lower() in _IN_NEED), "")
        range_key = next((key for each in tables for key in each if key.lower() in _IN_RANGE), "")
        if id_key:
            lines.append(f"id = {_quoted(id_key)}")
            ranges = [str(each[range_key]) for each in tables if range_key and range_key in each]
        else:
            ranges = [str(value) for each in tables for value in each.values() if _is_text(value)]
        if range_key:
            lines.append(f"range = {_quoted(range_key)}")
        lines += _of_texts([str(each) for each in items if _is_text(each) and str(each)])[0]
    elif kind == "game":
        ranges = [str(each) for each in items if _is_text(each)]
        if ranges and not _notation(ranges):
            key = ".".join(way)
            what = f"{key} says e.g. {ranges[0][:40]!r}, in no notation that is known"
            return [f"# {MARK}: {what}: add a [[self-description.game]] with a pattern"]
    else:
        found, ranges = _of_texts([str(each) for each in items if _is_text(each) and str(each)])
        lines += found
    lines.append(f"notation = {_quoted(_notation(ranges) or 'comparators')}")
    return lines


_ONLY_ID: Final = re.compile(r"[A-Za-z_][\w.-]*")
_WAYS_TO_NAME: Final = (
    r"(?P<id>[^:]+?)(?:\s*:\s*(?P<range>.+))?",
    r"(?P<id>[^@]+?)(?:\s*@\s*(?P<range>.+))?",
    r"(?P<id>[^(]+?)(?:\s*\((?P<range>[^)]+)\))?",
    r"(?P<id>[\w.-]+)\s*(?P<range>[<>=~^!].*)?",
)
"""How a text names a mod and a range: with a colon, an at sign, brackets, or a comparison."""


def _of_texts(texts: Sequence[str]) -> tuple[list[str], list[str]]:
    """Return the lines that say how needs are written in texts, and their ranges."""
    lines = []
    split = next((sign for sign in (";", ",") if any(sign in each for each in texts)), "")
    if not split and any(" " in each.strip() for each in texts):
        words = [word for each in texts for word in each.split()]
        split = " " if all(_ONLY_ID.fullmatch(word) for word in words) else ""
    if split:
        lines.append(f"split = {_quoted(split)}")
    parts = [part.strip() for each in texts for part in (each.split(split) if split else [each])]
    for pattern in _WAYS_TO_NAME:
        found = [re.fullmatch(pattern, part) for part in parts if part]
        ranges = [match["range"] for match in found if match and match["range"]]
        if ranges and all(found):
            return [*lines, f"pattern = '^{pattern}$'"], ranges
    return lines, []


def _notation(ranges: Sequence[str]) -> str:
    """Return the notation in which most ranges can be read; an empty text where few can in any."""
    if not ranges:
        return ""
    best = max(_NOTATIONS, key=lambda name: _readable(ranges, Notation(name)))
    return best if 2 * _readable(ranges, Notation(best)) > len(ranges) else ""


def _readable(ranges: Sequence[str], notation: Notation) -> int:
    count = 0
    for each in ranges:
        try:
            translate(each, notation)
        except NotRead:
            continue
        count += 1
    return count
