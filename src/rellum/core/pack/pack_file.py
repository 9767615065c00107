"""``rellum.toml``: read with every fault located, written so that comments and order stay."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rellum.core.catalog.model import Catalog, Source
from rellum.core.catalog.sheets import parse_id
from rellum.core.catalog.tables import Fault, TableReader, fault_lines, parse_toml, raise_faults
from rellum.core.durable import write_durably
from rellum.core.folder.identity import Identity
from rellum.core.ids import ModId, SheetId
from rellum.core.pack.home import PackHome
from rellum.core.paths import shown_file
from rellum.core.solving.problem import Hold, Want
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.ranges import RangeSyntaxError, parse_range
from rellum.core.versions.version import VersionSyntaxError

if TYPE_CHECKING:
    from tomlkit import TOMLDocument


@dataclass(frozen=True, slots=True, kw_only=True)
class WantLine:
    """A want as it is written: what the range means is for the mod's ordering to say."""

    mod: ModId
    range_text: str
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class HoldLine:
    """A hold as it is written."""

    mod: ModId
    version_text: str
    reason: str
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class PackFile:
    """What ``rellum.toml`` says. Folders are absolute."""

    name: str
    catalogs: tuple[str, ...]
    sheet: SheetId | None
    game_folder: str | None
    wants: tuple[WantLine, ...]
    holds: tuple[HoldLine, ...]


def read_pack_file(home: PackHome) -> PackFile:
    """Read ``rellum.toml``. Raises FileFaults with every mistake in it."""
    file = home.pack_file
    table, syntax_fault = parse_toml(file)
    raise_faults([syntax_fault] if table is None else [], shown_file(file))
    faults: list[Fault] = []
    root = TableReader(table or {}, Source(file=file), faults)
    pack = root.table("pack")
    name = pack.text("name", "north-sea") or os.path.basename(home.folder)
    catalogs = pack.texts("catalogs", "../catalog")
    pack.finish()
    game = root.table("game")
    sheet = game.parsed("sheet", "fathomline", parse_id)
    folder = game.text("folder", "../game")
    # What adopting found; kept for people to read. The state holds what counts.
    game.parsed("version", "1.6.0", parse_version)
    game.text("edition", "boxed")
    game.texts("expansions", "ice-charts")
    game.finish()
    wants = _read_wants(root.table("want"))
    holds = _read_holds(root.table("hold"))
    root.finish()
    raise_faults(fault_lines(faults), shown_file(file))
    return PackFile(
        name=name,
        catalogs=tuple(os.path.normpath(os.path.join(home.folder, each)) for each in catalogs),
        sheet=SheetId(sheet) if sheet else None,
        game_folder=os.path.normpath(os.path.join(home.folder, folder)) if folder else None,
        wants=wants,
        holds=holds,
    )


def _read_wants(reader: TableReader) -> tuple[WantLine, ...]:
    wants = []
    for mod in reader.names():
        reader.convert(mod, parse_id, mod)
        text = reader.text(mod, ">=3")
        if text is not None:
            wants.append(
                WantLine(mod=ModId(mod), range_text=text.strip(), source=reader.source.at(mod))
            )
    return tuple(wants)


def _read_holds(reader: TableReader) -> tuple[HoldLine, ...]:
    holds = []
    for mod in reader.names():
        reader.convert(mod, parse_id, mod)
        hold = reader.table(mod)
        version = hold.text("version", "3.2", required=True)
        reason = hold.text("reason", "3.3 makes the tides run backwards", required=True)
        hold.finish()
        if version is not None and reason is not None:
            holds.append(
                HoldLine(mod=ModId(mod), version_text=version, reason=reason, source=hold.source)
            )
    return tuple(holds)


def understand(pack: PackFile, catalog: Catalog) -> tuple[tuple[Want, ...], tuple[Hold, ...]]:
    """Read the pack's wants and holds by the orderings of their mods. Raises FileFaults."""
    faults: list[Fault] = []
    wants = []
    for want in pack.wants:
        try:
            range_ = parse_range(want.range_text, catalog.ordering(want.mod))
            wants.append(Want(mod=want.mod, range=range_, source=want.source))
        except RangeSyntaxError as error:
            faults.append(Fault(source=want.source, message=str(error)))
    holds = []
    for hold in pack.holds:
        try:
            version = parse_version(hold.version_text, catalog.ordering(hold.mod))
            holds.append(
                Hold(mod=hold.mod, version=version, reason=hold.reason, source=hold.source)
            )
        except VersionSyntaxError as error:
            faults.append(Fault(source=hold.source.at("version"), message=str(error)))
    raise_faults(fault_lines(faults), "rellum.toml")
    return tuple(wants), tuple(holds)


def write_adopted(home: PackHome, catalogs: tuple[str, ...], game: str, identity: Identity) -> None:
    """Make ``rellum.toml``, or fill in the game in the one that is there. Raises OSError."""
    if not os.path.exists(home.pack_file):
        write_durably(home.pack_file, _new_file(home, catalogs, game, identity).encode("utf-8"))
        return

    def fill(document: TOMLDocument) -> None:
        import tomlkit

        pack = document.setdefault("pack", tomlkit.table())
        if "catalogs" not in pack:
            pack["catalogs"] = [_relative(home, each) for each in catalogs]
        game_table = document.setdefault("game", tomlkit.table())
        game_table["sheet"] = str(identity.sheet)
        game_table["folder"] = _relative(home, game)
        game_table["version"] = identity.version.text
        if identity.edition:
            game_table["edition"] = identity.edition
        game_table["expansions"] = list(identity.expansions)

    _edit(home, fill)


def _new_file(home: PackHome, catalogs: tuple[str, ...], game: str, identity: Identity) -> str:
    def text(value: str) -> str:
        return json.dumps(value, ensure_ascii=False)

    def texts(values: list[str]) -> str:
        return "[" + ", ".join(map(text, values)) + "]"

    edition = f"edition = {text(identity.edition)}\n" if identity.edition else ""
    return (
        "# A Rellum pack. Edit it by hand or by commands; comments and order stay.\n"
        "\n"
        "[pack]\n"
        f"name = {text(os.path.basename(home.folder))}\n"
        f"catalogs = {texts([_relative(home, each) for each in catalogs])}\n"
        "\n"
        "# Found by 'rellum adopt'.\n"
        "[game]\n"
        f"sheet = {text(identity.sheet)}\n"
        f"folder = {text(_relative(home, game))}\n"
        f"version = {text(identity.version.text)}\n"
        f"{edition}"
        f"expansions = {texts(list(identity.expansions))}\n"
        "\n"
        '# The mods that the pack asks for, and the versions it allows: mod = ">=1.5, <2"\n'
        "[want]\n"
    )


def _relative(home: PackHome, folder: str) -> str:
    """Return a folder as the pack file writes it: from the pack's folder, with slashes."""
    try:
        return os.path.relpath(folder, home.folder).replace(os.sep, "/")
    except ValueError:  # another drive
        return folder


def set_want(home: PackHome, mod: str, range_text: str) -> None:
    """Write a want into ``rellum.toml``. Raises OSError."""

    def change(document: TOMLDocument) -> None:
        import tomlkit

        document.setdefault("want", tomlkit.table())[mod] = range_text

    _edit(home, change)


def remove_want(home: PackHome, mod: str) -> None:
    """Take a want out of ``rellum.toml``. Raises OSError."""

    def change(document: TOMLDocument) -> None:
        del document["want"][mod]

    _edit(home, change)


def _edit(home: PackHome, change: Callable[[TOMLDocument], None]) -> None:
    import tomlkit

    with open(home.pack_file, encoding="utf-8", newline="") as file:
        text = file.read()
    try:
        document = tomlkit.parse(text)
    except ValueError as error:  # stricter than the reader in some corner
        raise_faults([f"{shown_file(home.pack_file)}:1: {error}"], shown_file(home.pack_file))
        raise
    change(document)
    write_durably(home.pack_file, tomlkit.dumps(document).encode("utf-8"))
