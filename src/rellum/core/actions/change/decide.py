"""Decide: what a curator settles once for a pack, written into rellum.toml with comments and order kept."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Final, Literal

from rellum.core.catalog.load import find_mod
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.errors import UserError
from rellum.core.nearest import nearest
from rellum.core.pack.home import PackHome, pack_home
from rellum.core.pack.pack_edits import edit_pack, relative_to_pack
from rellum.core.pack.session import Session
from rellum.core.values.paths import GAME_PREFIX, UnsafePath, fault_in_name, parse_place_path
from rellum.core.versions.ranges import parse_range
from rellum.core.versions.version import VersionSyntaxError

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

Kind = Literal[
    "winner",
    "settings",
    "nested",
    "trust",
    "game-range",
    "game-folder",
    "profile",
    "place",
    "variable",
    "catalog",
    "source",
    "look-at",
    "name",
]


class BadDecision(UserError):
    """A decision cannot be written as it was given."""

    code = "bad-decision"


@dataclass(frozen=True, slots=True, kw_only=True)
class Form:
    """How a kind of decision is given: what its key and its value are called, and the words it may be.

    ``table`` and ``entry`` are where rellum.toml has it; without a key, ``entry`` is one text, or a list
    of texts if ``is_list``.
    """

    meaning: str
    table: str
    entry: str = ""
    key: str = ""
    value: str
    words: tuple[str, ...] = ()
    is_list: bool = False


FORMS: Final[dict[Kind, Form]] = {
    "winner": Form(
        meaning="which mod wins a path, or all in a folder",
        table="winner",
        key="PATH",
        value="MOD",
    ),
    "settings": Form(
        meaning="who wins where you and a release changed the same key",
        table="settings",
        key="PATH",
        value="mine|theirs",
        words=("mine", "theirs"),
    ),
    "nested": Form(
        meaning="whether an archive's folder goes into one of the same name",
        table="nested",
        key="PATH",
        value="once|twice",
        words=("once", "twice"),
    ),
    "trust": Form(
        meaning="whether what a trial says works may be chosen",
        table="pack",
        entry="trust",
        value="declared|tried",
        words=("declared", "tried"),
    ),
    "game-range": Form(
        meaning="which versions of the game the line-up may be for",
        table="game",
        entry="range",
        value="RANGE",
    ),
    "game-folder": Form(
        meaning="where the game is, if it was moved", table="game", entry="folder", value="FOLDER"
    ),
    "profile": Form(
        meaning="the game's profile whose load order is written",
        table="game",
        entry="profile",
        value="NAME",
    ),
    "place": Form(
        meaning="where a place outside the game folder lies",
        table="game.places",
        key="NAME",
        value="FOLDER",
    ),
    "variable": Form(
        meaning="a text that mods ask for", table="variables", key="NAME", value="TEXT"
    ),
    "catalog": Form(
        meaning="a folder of sheets and cards",
        table="pack",
        entry="catalogs",
        value="FOLDER",
        is_list=True,
    ),
    "source": Form(
        meaning="a folder that cards' file: addresses may name",
        table="pack",
        entry="sources",
        value="FOLDER",
        is_list=True,
    ),
    "look-at": Form(
        meaning="what 'play' shows, to be looked at in the game",
        table="pack",
        entry="look-at",
        value="TEXT",
        is_list=True,
    ),
    "name": Form(meaning="what the pack is called", table="pack", entry="name", value="NAME"),
}
"""All kinds of decisions."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Decision:
    """A decision as rellum.toml has it; ``key`` is empty where the kind has none."""

    kind: Kind
    key: str
    value: str


def decisions(request: Request) -> tuple[Decision, ...]:
    """Return what the pack decides. Raises FileFaults, NoPack."""
    with open_pack(request) as opened:
        return _read(opened)


def _read(opened: Session) -> tuple[Decision, ...]:
    import tomlkit

    _ = opened.files.pack  # tells the mistakes
    with open(opened.home.pack_file, encoding="utf-8") as file:
        return tuple(_decisions(tomlkit.parse(file.read())))


def _decisions(document: TOMLDocument) -> Iterator[Decision]:
    for kind, form in FORMS.items():
        table = _table(document, form.table, makes=False)
        if table is None:
            continue
        if form.key:
            for key, value in table.items():
                yield Decision(kind=kind, key=str(key), value=str(value))
        elif form.entry in table:
            said = table[form.entry]
            for value in said if form.is_list else [said]:
                yield Decision(kind=kind, key="", value=str(value))


def decide(request: Request, kind: Kind, key: str, value: str) -> Decision:
    """Write a decision; one of the same key is replaced.

    Raises BadDecision, UnknownMod, NoCatalog, OSError.
    """
    if kind == "game-folder":  # the pack cannot be opened while its game is nowhere
        return _game_folder(pack_home(request.pack_folder), value)
    with open_pack(request) as opened:
        opened.state.refuse_unfit()
        made = _checked(opened, kind, key, value)
        form = FORMS[kind]

        def change(document: TOMLDocument) -> None:
            table = _table(document, form.table, makes=True)
            if form.key:
                table[made.key] = made.value
            elif not form.is_list:
                table[form.entry] = made.value
            elif made.value not in table.setdefault(form.entry, []):
                table[form.entry].append(made.value)

        edit_pack(opened.home, change)
    return made


def _game_folder(home: PackHome, value: str) -> Decision:
    if not os.path.isdir(value):
        raise BadDecision(f"the folder {value} is not there", hint="Name one that is.")
    folder = relative_to_pack(home, os.path.abspath(value))

    def change(document: TOMLDocument) -> None:
        document["game"]["folder"] = folder

    edit_pack(home, change)
    return Decision(kind="game-folder", key="", value=folder)


def undecide(request: Request, kind: Kind, key: str) -> Decision:
    """Take a decision out; of a list, the one with that value. Raises BadDecision, OSError."""
    with open_pack(request) as opened:
        opened.state.refuse_unfit()
        form = FORMS[kind]
        if form.key and form.key == "PATH":
            key = written_place(opened, key)
        if kind in ("catalog", "source"):
            key = relative_to_pack(opened.home, os.path.abspath(key))
        known = [each for each in _read(opened) if each.kind == kind]
        plain = key.rstrip("/")
        found = next(
            (
                each
                for each in known
                if plain in (each.key.rstrip("/"), each.value) or not (form.key or key)
            ),
            None,
        )
        if found is None or (form.is_list and found.value != key):
            names = [each.key or each.value for each in known]
            raise BadDecision(
                f"nothing is decided of {kind} {key}".rstrip() + nearest(key, names),
                hint="'rellum decide' lists all decisions.",
            )
        gone = found

        def change(document: TOMLDocument) -> None:
            table = _table(document, form.table, makes=True)
            if form.key:
                del table[gone.key]
            elif form.is_list:
                table[form.entry].remove(gone.value)
            else:
                del table[form.entry]
            if form.key and not table and "." not in form.table:
                del document[form.table]

        edit_pack(opened.home, change)
    return gone


def _table(document: TOMLDocument, path: str, *, makes: bool) -> Any:
    """Return a table by its dotted path; None where there is none, and none is made."""
    import tomlkit

    table: Any = document
    for name in path.split("."):
        if name not in table:
            if not makes:
                return None
            table[name] = tomlkit.table()
        table = table[name]
    return table


def _checked(opened: Session, kind: Kind, key: str, value: str) -> Decision:
    """Return a decision whose parts are what they should be. Raises BadDecision, UnknownMod."""
    form = FORMS[kind]
    if form.words and value not in form.words:
        raise BadDecision(
            f"{value!r} is not {' or '.join(form.words)}{nearest(value, form.words)}",
            hint=f"rellum decide {kind} {f'{form.key} ' if form.key else ''}{form.value}",
        )
    key = written_place(opened, key) if form.key == "PATH" else key.removeprefix("@")
    check = _CHECKS.get(kind)
    return Decision(kind=kind, key=key, value=check(opened, key, value) if check else value)


def written_place(opened: Session, path: str) -> str:
    """Return a path of the game as rellum.toml writes it: ``data/sea.dat`` is ``@game/data/sea.dat``.

    Raises BadDecision.
    """
    text = path.replace("\\", "/")
    text = text if text.startswith("@") else GAME_PREFIX + text
    try:
        parse_place_path(text, opened.files.sheet.places)
    except UnsafePath as error:
        raise BadDecision(error.summary, hint="Write it as 'rellum check' shows it.") from error
    return text


def _mod(opened: Session, _: str, value: str) -> str:
    return find_mod(opened.files.catalog, value).id


def _range(_: Session, __: str, value: str) -> str:
    try:
        return str(parse_range(value))
    except (ValueError, VersionSyntaxError) as error:
        raise BadDecision(str(error), hint="For example: '>=1.6, <1.8'.") from error


def _folder(opened: Session, _: str, value: str) -> str:
    if not os.path.isdir(value):
        raise BadDecision(f"the folder {value} is not there", hint="Name one that is.")
    return relative_to_pack(opened.home, os.path.abspath(value))


def _place(opened: Session, key: str, value: str) -> str:
    names = [root.removeprefix("@") for root in opened.files.sheet.outside]
    if key not in names:
        raise BadDecision(
            f"the game has no place {key!r} outside its folder{nearest(key, names)}",
            hint=f"Its places outside are: {', '.join(names) or 'none'}.",
        )
    return relative_to_pack(opened.home, os.path.abspath(value))


def _name(_: Session, __: str, value: str) -> str:
    if fault := fault_in_name(value):
        raise BadDecision(f"{value!r} is no name: {fault}", hint="Choose another name.")
    return value


_CHECKS: Final[dict[Kind, Callable[[Session, str, str], str]]] = {
    "winner": _mod,
    "game-range": _range,
    "catalog": _folder,
    "source": _folder,
    "place": _place,
    "profile": _name,
    "name": _name,
}
