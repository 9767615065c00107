"""Writing ``rellum.toml``: made when a game is adopted, then edited so that comments and order stay."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

from rellum.core.catalog.schemas import lay_schemas, schema_line
from rellum.core.catalog.tables import raise_faults
from rellum.core.durable import write_durably
from rellum.core.folder.identity import Identity
from rellum.core.pack.home import PackHome
from rellum.core.pack.pack_file import WantLine
from rellum.core.toml_comments import comments_in_place
from rellum.core.values.paths import shown_file

if TYPE_CHECKING:
    from tomlkit import TOMLDocument
    from tomlkit.items import InlineTable


def write_adopted(home: PackHome, catalogs: tuple[str, ...], game: str, identity: Identity) -> None:
    """Make ``rellum.toml``, or fill in the game in the one that is there. Raises OSError.

    Beside the state lie the schemas with which editors check it; nothing fails for want of these.
    """
    with suppress(OSError):
        lay_schemas(os.path.join(home.state_folder, "schemas"), ("pack", "trials", "card"))
    if not os.path.exists(home.pack_file):
        write_durably(home.pack_file, _new_file(home, catalogs, game, identity).encode("utf-8"))
        return

    def fill(document: TOMLDocument) -> None:
        import tomlkit

        pack = document.setdefault("pack", tomlkit.table())
        if "catalogs" not in pack:
            pack["catalogs"] = [relative_to_pack(home, each) for each in catalogs]
        _fill_game(document, identity)
        document["game"]["folder"] = relative_to_pack(home, game)

    edit_pack(home, fill)


def _new_file(home: PackHome, catalogs: tuple[str, ...], game: str, identity: Identity) -> str:
    def text(value: str) -> str:
        return json.dumps(value, ensure_ascii=False)

    def texts(values: list[str]) -> str:
        return "[" + ", ".join(map(text, values)) + "]"

    edition = f"edition = {text(identity.edition)}\n" if identity.edition else ""
    return (
        f"{schema_line('.rellum/schemas/pack.json')}\n"
        "# A Rellum pack. Edit it by hand or by commands; comments and order stay.\n"
        "\n"
        "[pack]\n"
        f"name = {text(os.path.basename(home.folder))}\n"
        f"catalogs = {texts([relative_to_pack(home, each) for each in catalogs])}\n"
        "\n"
        "# Found by 'rellum adopt'.\n"
        "[game]\n"
        f"sheet = {text(identity.sheet)}\n"
        f"folder = {text(relative_to_pack(home, game))}\n"
        f"version = {text(identity.version.text)}\n"
        f"{edition}"
        f"expansions = {texts(list(identity.expansions))}\n"
        "\n"
        '# The mods that the pack asks for, and the versions it allows: mod = ">=1.5, <2"\n'
        "[want]\n"
    )


def relative_to_pack(home: PackHome, folder: str) -> str:
    """Return a folder as the pack file writes it: from the pack's folder, with slashes."""
    try:
        return os.path.relpath(folder, home.folder).replace(os.sep, "/")
    except ValueError:  # another drive
        return folder


def set_want(home: PackHome, want: WantLine) -> None:
    """Write a want into ``rellum.toml``: a range alone, or a table where there is more to say.

    Raises OSError.
    """
    set_wants(home, [want])


def set_wants(home: PackHome, wants: Sequence[WantLine]) -> None:
    """Write several wants at once. Raises OSError."""

    def change(document: TOMLDocument) -> None:
        import tomlkit

        table = document.setdefault("want", tomlkit.table())
        for want in wants:
            table[want.mod] = _want_value(want)

    if wants:
        edit_pack(home, change)


def _want_value(want: WantLine) -> str | InlineTable:
    import tomlkit

    if not want.optional and not want.options:
        return want.range_text
    said = tomlkit.inline_table()
    said["range"] = want.range_text
    if want.optional:
        said["optional"] = True
    if want.options:
        options = tomlkit.inline_table()
        for group, chosen in want.options:
            options[group] = chosen[0] if len(chosen) == 1 else list(chosen)
        said["options"] = options
    return said


def add_catalog(home: PackHome, folder: str) -> None:
    """Name another catalog folder in ``rellum.toml``, after those that it names. Raises OSError."""

    def change(document: TOMLDocument) -> None:
        document["pack"]["catalogs"].append(relative_to_pack(home, folder))

    edit_pack(home, change)


def replace_catalog(home: PackHome, old: str, new: str) -> None:
    """Name another folder in the place of a catalog folder. Raises OSError."""

    def change(document: TOMLDocument) -> None:
        named = document["pack"]["catalogs"]
        folders = [os.path.normpath(os.path.join(home.folder, each)) for each in named]
        named[folders.index(old)] = new

    edit_pack(home, change)


def set_hold(home: PackHome, mod: str, version: str, reason: str) -> None:
    """Write a hold into ``rellum.toml``. Raises OSError."""

    def change(document: TOMLDocument) -> None:
        import tomlkit

        hold = tomlkit.inline_table()
        hold["version"] = version
        hold["reason"] = reason
        document.setdefault("hold", tomlkit.table())[mod] = hold

    edit_pack(home, change)


def remove_hold(home: PackHome, mod: str) -> None:
    """Take a hold out of ``rellum.toml``. Raises OSError."""

    def change(document: TOMLDocument) -> None:
        del document["hold"][mod]

    edit_pack(home, change)


def remove_want(home: PackHome, mod: str) -> None:
    """Take a want out of ``rellum.toml``. Raises OSError."""

    def change(document: TOMLDocument) -> None:
        del document["want"][mod]

    edit_pack(home, change)


def write_folder(home: PackHome, folder: str) -> None:
    """Write into ``rellum.toml`` where the game folder is. Raises OSError."""

    def change(document: TOMLDocument) -> None:
        document["game"]["folder"] = relative_to_pack(home, folder)

    edit_pack(home, change)


def changed_text(
    home: PackHome,
    identity: Identity | None,
    answers: Mapping[str, Mapping[str, str]] | None = None,
) -> str:
    """Return rellum.toml's text with another version of the game, and with answers; write nothing.

    ``answers`` are what was said of paths, by the table in which that is written.

    Raises FileFaults.
    """

    def fill(document: TOMLDocument) -> None:
        import tomlkit

        if identity:
            _fill_game(document, identity)
        for table, words in (answers or {}).items():
            for path, word in words.items():
                document.setdefault(table, tomlkit.table())[path] = word

    return _edited(home, fill)


def _fill_game(document: TOMLDocument, identity: Identity) -> None:
    import tomlkit

    game_table = document.setdefault("game", tomlkit.table())
    game_table["sheet"] = str(identity.sheet)
    game_table["version"] = identity.version.text
    if identity.edition:
        game_table["edition"] = identity.edition
    game_table["expansions"] = list(identity.expansions)


def edit_pack(home: PackHome, change: Callable[[TOMLDocument], None]) -> None:
    """Change ``rellum.toml``; comments and order stay. Raises FileFaults, OSError."""
    write_durably(home.pack_file, _edited(home, change).encode("utf-8"))


def _edited(home: PackHome, change: Callable[[TOMLDocument], None]) -> str:
    import tomlkit

    with open(home.pack_file, encoding="utf-8", newline="") as file:
        text = file.read()
    try:
        document = tomlkit.parse(text)
    except ValueError as error:  # stricter than the reader in some corner
        raise_faults([f"{shown_file(home.pack_file)}:1: {error}"], shown_file(home.pack_file))
        raise
    change(document)
    return comments_in_place(text, tomlkit.dumps(document))


def allow_sharing(home: PackHome, mods: Sequence[str]) -> None:
    """Note the curator's word that these mods' archives may be handed on. Raises OSError."""

    def allow(document: TOMLDocument) -> None:
        import tomlkit

        share = document.setdefault("share", tomlkit.table())
        share["allow"] = sorted({*share.get("allow", ()), *mods})

    edit_pack(home, allow)


def set_feed(text: str, address: str, version: int) -> str:
    """Return the text of rellum.toml with the feed that it follows."""
    import tomlkit

    document = tomlkit.parse(text)
    feed = document.setdefault("feed", tomlkit.table())
    feed["address"] = address
    feed["version"] = version
    return comments_in_place(text, tomlkit.dumps(document))
