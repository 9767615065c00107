"""Reading catalog folders: ``games/*.toml``, ``cards/*.toml`` and ``trials.toml``.

All faults of all files are reported together.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence

from rellum.core.catalog.cache import cache_file
from rellum.core.catalog.card_store import StoredMods
from rellum.core.catalog.catalog_files import TRIALS, toml_names
from rellum.core.catalog.model import Catalog, GameSheet, Mod
from rellum.core.catalog.read_cards import Faulty, read_cards
from rellum.core.catalog.sheets import read_sheet
from rellum.core.catalog.tables import Fault, FileFaults, fault_lines, parse_toml, raise_faults
from rellum.core.catalog.trials import read_trials
from rellum.core.errors import UserError
from rellum.core.nearest import nearest
from rellum.core.notices import note
from rellum.core.values.ids import ModId, SheetId
from rellum.core.values.paths import shown_file
from rellum.core.versions.orderings import Ordering


class NoCatalog(UserError):
    """A catalog folder is missing, or holds nothing that a catalog holds."""

    code = "no-catalog"


class UnknownMod(UserError):
    """No card of the catalog has that id."""

    code = "unknown-mod"


def load_sheets(folders: Sequence[str]) -> dict[SheetId, GameSheet]:
    """Read only the game sheets. Raises NoCatalog, FileFaults."""
    faults: list[str] = []
    sheets = load_sheets_noting(folders, faults)
    raise_faults(faults, "the catalog")
    return sheets


def load_sheet(folders: Sequence[str], sheet_id: SheetId) -> GameSheet:
    """Read the pack's game sheet alone. Raises NoCatalog, FileFaults."""
    faults: list[str] = []
    return _sheet_of(folders, sheet_id, load_sheets_noting(folders, faults), faults)


def load_catalog(folders: Sequence[str], sheet_id: SheetId) -> Catalog:
    """Read the pack's sheet, trials and all cards, whose places are those of the pack's game.

    Cards with mistakes are left out, and that is noted; who asks for one of them hears of its mistakes
    (``find_mod``, ``refuse_faulty``). Raises NoCatalog, FileFaults where the sheet itself has one.
    """
    faults: list[str] = []
    return usable_catalog(read_catalog(folders, sheet_id, faults), faults)


def usable_catalog(catalog: Catalog | None, faults: Sequence[str]) -> Catalog:
    """Return a catalog that was read; that cards were left out is noted. Raises FileFaults."""
    if catalog is None:
        raise_faults(faults, "the catalog")
    assert catalog is not None  # else there were faults
    if faults:
        note(
            f"mistakes in {_files_with(faults)} of the catalog, which {_were(faults)} left out: 'rellum vet'"
        )
    return catalog


def _files_with(faults: Sequence[str]) -> str:
    count = len({line.partition(":")[0] for line in faults})
    return "1 file" if count == 1 else f"{count} files"


def _were(faults: Sequence[str]) -> str:
    return "was" if _files_with(faults) == "1 file" else "were"


def read_catalog(folders: Sequence[str], sheet_id: SheetId, faults: list[str]) -> Catalog | None:
    """Read a catalog, noting every fault; without the files that have one.

    None where the game sheet has one itself. A catalog may have no cards yet. Raises NoCatalog.
    """
    sheets = load_sheets_noting(folders, faults)
    try:
        sheet = _sheet_of(folders, sheet_id, sheets, faults)
    except FileFaults:
        return None
    faulty: Faulty = {}
    files = _toml_files(folders, "cards")
    found = read_cards(files, sheet, cache_file(tuple(folders), sheet_id), faulty)
    cards = found.by_id
    faults += [line for lines in faulty.values() for line in lines]
    orderings: dict[str, Ordering] = {card.id: card.ordering for card in cards.values()}
    offered: dict[ModId, tuple[ModId, ...]] = {}
    for card in cards.values():
        for mod in card.offers:
            offered[mod] = (*offered.get(mod, ()), card.id)
    trials = [
        trial for folder in folders for trial in read_trials(os.path.join(folder, TRIALS), faults)
    ]
    return Catalog(
        folders=tuple(folders),
        sheet=sheet,
        mods=StoredMods(cards, found.mod),
        orderings=orderings,
        offered=offered,
        trials=tuple(trials),
        faulty=faulty,
    )


def _sheet_of(
    folders: Sequence[str],
    sheet_id: SheetId,
    sheets: Mapping[SheetId, GameSheet],
    faults: Sequence[str],
) -> GameSheet:
    """Return the sheet of that id. Raises NoCatalog; FileFaults where a faulty sheet may be the one."""
    sheet = sheets.get(sheet_id)
    if sheet is None:
        raise_faults(faults, "the catalog")
        raise NoCatalog(
            f"no game sheet in the catalog has the id {sheet_id!r}" + nearest(sheet_id, sheets),
            hint="Put the pack's sheet into games/ of a catalog folder that the pack names. 'rellum decide "
            "catalog FOLDER' names one.",
        )
    return sheet


def refuse_faulty(catalog: Catalog, mods: Iterable[str]) -> None:
    """Raise FileFaults where cards of some of these mods were left out for their mistakes."""
    lines = [line for mod in mods for line in catalog.faulty.get(ModId(mod), ())]
    raise_faults(lines, "the catalog")


def find_mod(catalog: Catalog, mod_id: str) -> Mod:
    """Return a mod by its id. Raises UnknownMod, with the nearest ids; FileFaults for a faulty card."""
    refuse_faulty(catalog, [mod_id])
    mod = catalog.mods.get(ModId(mod_id))
    if mod is None:
        raise UnknownMod(
            f"no card in the catalog is for {mod_id!r}" + nearest(mod_id, catalog.mods),
            hint=f"Cards are in {', '.join(shown_file(each) for each in catalog.folders)}.",
        )
    return mod


def load_sheets_noting(folders: Sequence[str], faults: list[str]) -> dict[SheetId, GameSheet]:
    """Read only the game sheets, noting every fault. Raises NoCatalog."""
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


def _toml_files(folders: Sequence[str], kind: str) -> list[str]:
    """Return the TOML files of one kind in all catalog folders, sorted within each folder."""
    files: list[str] = []
    for folder in folders:
        if not os.path.isdir(folder):
            raise NoCatalog(
                f"the catalog folder {shown_file(folder)} is not there",
                hint="Name it with --catalog, or with 'rellum decide catalog FOLDER'; '--off' takes one out.",
            )
        files += toml_names(folder, kind)
    return files
