"""Where a pack's catalog folders are, and reading them for the game that it keeps."""

from __future__ import annotations

import os
from collections.abc import Iterable

from rellum.core.catalog.load import NoCatalog, load_catalog, load_sheet, read_catalog
from rellum.core.catalog.model import Catalog, GameSheet
from rellum.core.pack.home import PackHome
from rellum.core.pack.pack_file import PackFile
from rellum.core.pack.remembered_catalogs import CATALOG_VARIABLE, beside, from_environment
from rellum.core.values.ids import SheetId


def find_catalogs(
    home: PackHome, named: tuple[str, ...] = (), pack: PackFile | None = None
) -> tuple[str, ...]:
    """Return the catalog folders: those named, else the pack's, else ``RELLUM_CATALOG``, else a
    folder called ``catalog`` in the pack's folder or beside it. Raises NoCatalog.
    """
    if named:
        return tuple(os.path.abspath(each) for each in named)
    if pack is not None and pack.catalogs:
        return pack.catalogs
    if said := from_environment():
        return said
    for folder in beside(home):
        if os.path.isdir(folder):
            return (folder,)
    raise NoCatalog(
        "there is no catalog folder",
        hint=f"Name one with --catalog, or with {CATALOG_VARIABLE}, or put it beside the pack "
        "under the name 'catalog'. To start one with the sheet of a game: rellum describe --game FOLDER",
    )


def has_cards(folders: Iterable[str]) -> bool:
    """Whether a catalog has a card at all; none is read."""
    cards = (os.path.join(folder, "cards") for folder in folders)
    return any(
        name.endswith(".toml") for each in cards if os.path.isdir(each) for name in os.listdir(each)
    )


def catalog_of(home: PackHome, pack: PackFile) -> Catalog:
    """Read the catalog for the pack's game. Raises NoCatalog, FileFaults."""
    return load_catalog(find_catalogs(home, pack=pack), _sheet_named(pack))


def read_catalog_of(home: PackHome, pack: PackFile) -> tuple[Catalog | None, tuple[str, ...]]:
    """Read the same without the files that have mistakes; return the mistakes, too. Raises NoCatalog."""
    faults: list[str] = []
    catalog = read_catalog(find_catalogs(home, pack=pack), _sheet_named(pack), faults)
    return catalog, tuple(faults)


def sheet_of(home: PackHome, pack: PackFile) -> GameSheet:
    """Read the pack's game sheet, and no card. Raises NoCatalog, FileFaults."""
    return load_sheet(find_catalogs(home, pack=pack), _sheet_named(pack))


def _sheet_named(pack: PackFile) -> SheetId:
    if pack.sheet is None:
        raise NoCatalog(
            "rellum.toml names no game sheet, so the catalog cannot be read",
            hint="Start with 'rellum adopt GAME-FOLDER'.",
        )
    return pack.sheet
