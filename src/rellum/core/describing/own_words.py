"""What a mod says about itself, read by the game sheet's ``[[self-description]]``.

In: the names of an archive's members, and a way to read one. Out: ids, versions, needs and ranges, each
translated or quoted as unread. Nothing is trusted: long texts are cut, and an id becomes one of ours.
"""

from __future__ import annotations

import itertools
import math
import re
import unicodedata
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

from rellum.core.catalog.self_descriptions import (
    FOLDER,
    KeyNames,
    OwnStatement,
    SelfDescription,
    StatementKind,
)
from rellum.core.describing.notations import ANY, Notation, NotRead, translate
from rellum.core.describing.own_files import Document, FileForm, NotReadable, read_own_file
from rellum.core.globs import path_test
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.version import VersionSyntaxError

MOST_STATEMENTS: Final = 400
_MOST_SIGNS: Final = 200
_MOST_ALTERNATIVES: Final = 64
_NAMED: Final = re.compile(r"[A-Za-z][A-Za-z0-9 ._-]{0,39}")
"""A version that is a name: no order can be told from it."""
_PLAIN: Final = re.compile(r"v?[0-9][0-9A-Za-z._-]*")
_SECONDS: Final = 1.0
_REFERENCE: Final = re.compile(r"^(__.+__|[%$]\{?.*|#.+|@.+@)$")
"""Names that refer to another text, which only the game can look up."""


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnNeed:
    """Another mod that a mod speaks of: as it is called there, as a card calls it, and which versions."""

    said: str
    id: str
    range: str


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnWords:
    """What one mod says about itself. ``said_id`` is its own id; ``unread`` quotes what was not understood.

    ``folder`` is the folder that its description lies in, with a slash; ``file`` the description.
    """

    file: str
    folder: str
    said_id: str
    id: str
    name: str = ""
    version: str = ""
    licence: str = ""
    game: str = ""
    needs: tuple[OwnNeed, ...] = ()
    clashes: tuple[OwnNeed, ...] = ()
    load_after: tuple[OwnNeed, ...] = ()
    unread: tuple[str, ...] = ()


ReadMember = Callable[[str], bytes]


def own_words_in(
    descriptions: Sequence[SelfDescription], paths: Iterable[str], read: ReadMember
) -> tuple[OwnWords, ...]:
    """Return what the mods of an archive say about themselves; several at one depth are several mods."""
    paths = list(paths)
    for description in descriptions:
        found = own_files(description, paths)
        words = [each for path in found if (each := _words_in(description, path, read))]
        if words:
            return tuple(words)
    return ()


def own_files(description: SelfDescription, paths: Iterable[str]) -> list[str]:
    """Return the members in which mods describe themselves like that: the shallowest that fit."""
    fits = path_test(description.file if "/" in description.file else f"**/{description.file}")
    found = [path for path in paths if fits(path) or fits(f"x/{path}")]
    depth = min((path.count("/") for path in found), default=0)
    return sorted(path for path in found if path.count("/") == depth)


def is_version(text: str) -> bool:
    """Whether a text is a version of numbers, and not a name."""
    try:
        return bool(parse_version(text))
    except VersionSyntaxError:
        return False


def as_id(text: str) -> str:
    """Return a text as the id of a card: small letters, digits and single hyphens."""
    plain = unicodedata.normalize("NFKD", text)
    plain = "".join(sign for sign in plain if not unicodedata.combining(sign))
    apart = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "-", plain)
    return re.sub(r"[^a-z0-9]+", "-", apart.lower()).strip("-")[:60].strip("-")


def without_games_own(words: OwnWords, own: Iterable[str]) -> OwnWords:
    """Return what a mod says, without needs of what the game itself brings."""
    ids = frozenset(map(as_id, own))

    def others(needs: tuple[OwnNeed, ...]) -> tuple[OwnNeed, ...]:
        return tuple(each for each in needs if each.id not in ids and each.id != words.id)

    return replace(
        words,
        needs=others(words.needs),
        clashes=others(words.clashes),
        load_after=others(words.load_after),
    )


def _words_in(description: SelfDescription, path: str, read: ReadMember) -> OwnWords | None:
    try:
        document = read_own_file(read(path), FileForm(description.form))
    except NotReadable:
        return None
    top = _chosen(document, description.only)
    if top is None:
        return None
    folder = path[: path.rfind("/") + 1]
    reader = _Reader(description, top, folder)
    said_id = reader.value("id", description.id)
    mod_id = as_id(said_id)
    if not mod_id:
        return None
    name = reader.value("name", description.name)
    return OwnWords(
        file=path,
        folder=folder,
        said_id=said_id,
        id=mod_id,
        name="" if _REFERENCE.match(name) else name,
        version=reader.version(),
        licence=reader.value("licence", description.licence),
        game=reader.game(),
        needs=tuple(reader.needs("needs", hints=False)),
        clashes=tuple(reader.needs("clashes", hints=False)),
        load_after=(*reader.needs("load-after", hints=False), *reader.needs("needs", hints=True)),
        unread=tuple(reader.unread),
    )


def _chosen(document: Document, only: Sequence[tuple[str, str]]) -> Document | None:
    """Return the table that counts: the document, or the one in its list that says what it must."""
    tables = document if isinstance(document, list) and only else [document]
    for each in tables:
        if not only or (isinstance(each, dict) and _says(each, only)):
            return each
    return None


def _says(table: Mapping[str, Any], only: Sequence[tuple[str, str]]) -> bool:
    return all(str(table.get(key, "")) == value for key, value in only)


class _Reader:
    """Reads the values of one description; notes what it could not read."""

    def __init__(self, description: SelfDescription, top: Document, folder: str) -> None:
        self.description = description
        self.top = top
        self.folder = folder.rstrip("/").rpartition("/")[2]
        self.patterns = dict(description.patterns)
        self.unread: list[str] = []

    def value(self, what: str, ways: Sequence[KeyNames]) -> str:
        """Return the first text that one of the ways leads to."""
        for way in ways:
            found = self.folder if way == (FOLDER,) else text_of(next(at_keys(self.top, way), None))
            if what in self.patterns:
                found = _first_match(self.patterns[what], found)
            if found:
                return _shortened(found)
        return ""

    def version(self) -> str:
        """Return the mod's version, which may be a name; empty, and noted as unread, where it is none."""
        said = self.value("version", self.description.version).removeprefix("v")
        if not said or is_version(said) or _NAMED.fullmatch(said):
            return said
        self.unread.append(f"version: {said[:60]}")
        return ""

    def game(self) -> str:
        """Return the game versions that the mod is for, as one range."""
        found = []
        for statement in self._of("game"):
            said = [text for _, text in self._pairs(statement)]
            ranges = [self._translated(text, statement) for text in said]
            ranges = [each for each in ranges if each not in ("", ANY)]
            if len(said) > 1 and all(map(_PLAIN.fullmatch, said)):
                ranges = [" | ".join(ranges)]  # a list of versions: any of them
            found += ranges
        joined = both_of(found)
        if joined is None:
            self.unread.append(f"game: {_shortened(', '.join(found))}")
        return joined or ""

    def needs(self, kind: StatementKind, *, hints: bool) -> Iterator[OwnNeed]:
        """Yield the mods that statements of a kind name."""
        for statement in self._of(kind):
            if statement.is_hint == hints:
                for said_id, said in self._pairs(statement):
                    if mod_id := as_id(said_id):
                        range_text = self._translated(said, statement) or ANY
                        yield OwnNeed(said=_shortened(said_id), id=mod_id, range=range_text)

    def _of(self, kind: StatementKind) -> Iterator[OwnStatement]:
        return (each for each in self.description.statements if each.kind == kind)

    def _translated(self, said: str, statement: OwnStatement) -> str:
        try:
            return translate(said, Notation(statement.notation))
        except NotRead:
            self.unread.append(f"{statement.kind}: {_shortened(said)}")
            return ""

    def _pairs(self, statement: OwnStatement) -> Iterator[tuple[str, str]]:
        """Yield an id and a range for each thing that a statement says; at most so many."""
        count = 0
        for value in at_keys(self.top, statement.at):
            for pair in self._pairs_of(value, statement):
                if (count := count + 1) > MOST_STATEMENTS:
                    self.unread.append(f"{statement.kind}: more than {MOST_STATEMENTS} of them")
                    return
                yield pair

    def _pairs_of(self, value: Document, statement: OwnStatement) -> Iterator[tuple[str, str]]:
        if isinstance(value, list):
            for each in value:
                yield from self._pairs_of(each, statement)
        elif isinstance(value, dict):
            yield from _of_table(value, statement)
        elif text := text_of(value):
            for part in text.split(statement.split) if statement.split else [text]:
                yield from _of_text(part.strip(), statement)


def both_of(ranges: Sequence[str]) -> str | None:
    """Return the range of what lies in all of some ranges; None where that has too many alternatives."""
    alternatives = [each.split("|") for each in ranges if each]
    if math.prod(map(len, alternatives)) > _MOST_ALTERNATIVES:
        return None
    chosen = itertools.product(*alternatives) if alternatives else ()
    return " | ".join(", ".join(part.strip() for part in each) for each in chosen)


def _of_table(table: Mapping[str, Any], statement: OwnStatement) -> Iterator[tuple[str, str]]:
    if not _says(table, statement.where):
        return
    if statement.id or (statement.kind == "game" and statement.range):
        said = next((text_of(table[key]) for key in statement.id if key in table), "")
        ranges = (text_of(table[key]) for key in statement.range if key in table)
        yield said, next(filter(None, ranges), "")
        return
    for key, value in table.items():
        inner = value if isinstance(value, dict) else {}
        ranges = (text_of(inner[name]) for name in statement.range if name in inner)
        yield key, next(filter(None, ranges), "" if inner else text_of(value))


def _of_text(text: str, statement: OwnStatement) -> Iterator[tuple[str, str]]:
    if not text:
        return
    if statement.pattern:
        match = _search(statement.pattern, text)
        if match is not None:
            groups = match.groupdict()
            yield groups.get("id") or "", groups.get("range") or ""
    elif statement.kind == "game":
        yield "", text
    else:
        yield text, ""


def at_keys(document: Document, keys: KeyNames) -> Iterator[Document]:
    """Yield what keys lead to; a list on the way stands for each of its items."""
    if isinstance(document, list) and keys:
        for each in document[:MOST_STATEMENTS]:
            yield from at_keys(each, keys)
    elif not keys:
        yield document
    elif isinstance(document, dict) and keys[0] in document:
        yield from at_keys(document[keys[0]], keys[1:])


def text_of(value: Document) -> str:
    """Return a value as one line of text; empty where it is a table, a list or a truth value."""
    if isinstance(value, dict):
        value = value.get("#text", "")
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        return ""
    return " ".join(str(value).split())


def _shortened(text: str) -> str:
    return text if len(text) <= _MOST_SIGNS else f"{text[:_MOST_SIGNS]}…"


def _first_match(pattern: str, text: str) -> str:
    match = _search(pattern, text)
    return "" if match is None else str(match[1] if match.groups() else match[0])


def _search(pattern: str, text: str) -> Any:
    import regex

    try:
        return regex.search(pattern, text[:4000], timeout=_SECONDS)
    except TimeoutError:
        return None


def with_known_ids(words: OwnWords, known: Mapping[str, str]) -> OwnWords:
    """Return what a mod says with the ids of cards: a mod that has a card may be called otherwise there."""

    def named(needs: tuple[OwnNeed, ...]) -> tuple[OwnNeed, ...]:
        return tuple(replace(each, id=known.get(each.id, each.id)) for each in needs)

    return replace(
        words,
        id=known.get(words.id, words.id),
        needs=named(words.needs),
        clashes=named(words.clashes),
        load_after=named(words.load_after),
    )
