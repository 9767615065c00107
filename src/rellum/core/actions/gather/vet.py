"""Vet: check a catalog and report all its mistakes at once."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass

from rellum.core.catalog.cross_checks import notes, of_trial, unfinished, vet
from rellum.core.catalog.load import load_sheets_noting, read_catalog
from rellum.core.catalog.tables import fault_lines
from rellum.core.change.request import Request
from rellum.core.pack.catalogs import find_catalogs
from rellum.core.pack.home import PackHome
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.pack.trials_file import read_pack_trials
from rellum.core.values.ids import SheetId


@dataclass(frozen=True, slots=True, kw_only=True)
class VetResult:
    """What was looked at, and every fault as one line, ``file:line: …``; ``notes`` are no mistakes."""

    folders: tuple[str, ...]
    cards: int
    releases: int
    trials: int
    faults: tuple[str, ...]
    notes: tuple[str, ...] = ()


def vet_catalog(request: Request, named: Sequence[str] = (), sheet: str = "") -> VetResult:
    """Look through the catalog folders named, or the pack's. Raises NoCatalog.

    Cards are read for the game ``sheet``, else the pack's, else each that the catalog has.
    """
    home = PackHome(os.path.abspath(request.pack_folder))
    pack = read_pack_file(home) if os.path.isfile(home.pack_file) else None
    folders = find_catalogs(home, tuple(named), pack)
    faults: list[str] = []
    sheets = load_sheets_noting(folders, faults)
    wanted = SheetId(sheet) if sheet else pack.sheet if pack else None
    cards = releases = trials = 0
    said: list[str] = []
    for sheet_id in [wanted] if wanted else sheets:
        noted: list[str] = []
        catalog = read_catalog(folders, sheet_id, noted)
        faults += noted
        if catalog is None:
            continue
        own = read_pack_trials(home) if pack and not named else ()
        between = vet(catalog) + [f for trial in own for f in of_trial(catalog, trial)]
        faults += fault_lines(sorted(between, key=lambda fault: fault.source.file))
        faults += unfinished(catalog)
        said += fault_lines(sorted(notes(catalog), key=lambda fault: fault.source.file))
        cards = max(cards, len(catalog.mods))
        releases = max(releases, sum(len(mod.releases) for mod in catalog.mods.values()))
        trials = max(trials, len(catalog.trials) + len(own))
    return VetResult(
        folders=folders,
        cards=cards,
        releases=releases,
        trials=trials,
        faults=tuple(dict.fromkeys(faults)),
        notes=tuple(dict.fromkeys(said)),
    )
