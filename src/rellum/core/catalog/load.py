"""Reading catalog folders: ``games/*.toml`` and ``cards/*.toml``, all faults of all files together."""

from __future__ import annotations

import os
from collections.abc import Sequence

from rellum.core.catalog.cards import find_ordering, read_card
from rellum.core.catalog.model import Catalog, GameSheet, Mod
from rellum.core.catalog.sheets import read_sheet
from rellum.core.catalog.tables import Fault, fault_lines, parse_toml, raise_faults
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import UserError
from rellum.core.ids import ModId, SheetId
from rellum.core.nearest import nearest
from rellum.core.paths import shown_file


class NoCatalog(UserError):
    """A catalog folder is missing, or holds nothing that a catalog holds."""

    code = "no-catalog"


class UnknownMod(UserError):
    """No card of the catalog has that id."""

    code = "unknown-mod"


def load_sheets(folders: Sequence[str]) -> dict[SheetId, GameSheet]:
    """Read only the game sheets. Raises NoCatalog, FileFaults."""
    faults: list[str] = []
    sheets = _read_sheets(folders, faults)
    raise_faults(faults, "the catalog")
    return sheets


def load_catalog(folders: Sequence[str], sheet_id: SheetId) -> Catalog:
    """Read the sheets and all cards, whose places are those of the pack's game.

    Raises NoCatalog, FileFaults (with every fault of every file).
    """
    faults: list[str] = []
    sheets = _read_sheets(folders, faults)
    sheet = sheets.get(sheet_id)
    if sheet is None:
        raise_faults(faults, "the catalog")
        raise NoCatalog(
            f"no game sheet in the catalog has the id {sheet_id!r}" + nearest(sheet_id, sheets),
            hint="Put the pack's sheet into games/ of a catalog folder named in rellum.toml.",
        )
    mods = _read_mods(folders, sheet, faults)
    raise_faults(faults, "the catalog")
    return Catalog(folders=tuple(folders), sheets=sheets, mods=mods)


def find_mod(catalog: Catalog, mod_id: str) -> Mod:
    """Return a mod by its id. Raises UnknownMod, with the nearest ids."""
    mod = catalog.mods.get(ModId(mod_id))
    if mod is None:
        raise UnknownMod(
            f"no card in the catalog is for {mod_id!r}" + nearest(mod_id, catalog.mods),
            hint=f"Cards lie in {', '.join(shown_file(each) for each in catalog.folders)}.",
        )
    return mod


def _read_sheets(folders: Sequence[str], faults: list[str]) -> dict[SheetId, GameSheet]:
    sheets: dict[SheetId, GameSheet] = {}
    for file in _toml_files(folders, "games"):
        table, syntax_fault = parse_toml(file)
        if table is None:
            faults.append(syntax_fault)
            continue
        noted: list[Fault] = []
        sheet = read_sheet(table, file, noted)
        faults.extend(fault_lines(noted))
        if sheet is not None:
            sheets.setdefault(sheet.id, sheet)
    return sheets


def _read_mods(folders: Sequence[str], sheet: GameSheet, faults: list[str]) -> dict[ModId, Mod]:
    mods: dict[ModId, Mod] = {}
    files = _toml_files(folders, "cards")
    if not files:
        raise NoCatalog(
            f"there are no cards in {', '.join(shown_file(each) for each in folders)}",
            hint="A catalog folder holds cards/*.toml, one card a mod; see docs/files.md.",
        )
    tables: dict[str, dict[str, object]] = {}
    for file in files:
        table, syntax_fault = parse_toml(file)
        if table is None:
            faults.append(syntax_fault)
        else:
            tables[file] = table
    orderings = dict(map(find_ordering, tables.values()))
    for file, table in tables.items():
        noted: list[Fault] = []
        mod = read_card(table, file, sheet.places, orderings, noted)
        faults.extend(fault_lines(noted))
        if mod is None:
            continue
        if mod.id in mods:
            first = place_of(mods[mod.id].source.at("mod", "id"))
            faults.append(
                f"{place_of(mod.source.at('mod', 'id'))}: mod.id: "
                f"{mod.id!r} is taken already, at {first}"
            )
        mods[mod.id] = mod
    return mods


def _toml_files(folders: Sequence[str], kind: str) -> list[str]:
    """Return the TOML files of one kind in all catalog folders, sorted within each folder."""
    files: list[str] = []
    for folder in folders:
        if not os.path.isdir(folder):
            raise NoCatalog(
                f"the catalog folder {shown_file(folder)} is not there",
                hint="Name it with --catalog, or by 'catalogs' under [pack] in rellum.toml.",
            )
        try:
            names = sorted(os.listdir(os.path.join(folder, kind)))
        except OSError:
            continue
        files += [os.path.join(folder, kind, name) for name in names if name.endswith(".toml")]
    return files
