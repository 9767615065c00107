"""What sheet, pack and cards say of the folders: read again if one of their files changed, else remembered.

A faulty card, sheet or rellum.toml takes no safety away: then what was known last holds, and that is noted.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Container, Iterable, Iterator, Mapping
from contextlib import suppress

from rellum.core.catalog.card_store import card_file, says_of_files, terms_of
from rellum.core.catalog.model import Catalog, Release
from rellum.core.errors import UserError
from rellum.core.notices import note
from rellum.core.pack.catalogs import find_catalogs
from rellum.core.pack.folder_rules import (
    LAID_SINCE,
    NOTE,
    FolderRules,
    ModRules,
    rules_text,
    stamp_of,
    surroundings,
)
from rellum.core.pack.lock_file import NoLineUp
from rellum.core.pack.outside import usable_places
from rellum.core.pack.pack_files import PackFiles
from rellum.core.pack.state import State
from rellum.core.values.ids import ModId
from rellum.core.versions.ranges import parse_range


def read_rules_anew(files: PackFiles, state: State, before: FolderRules) -> FolderRules:
    """Read the rules and remember them; return those of ``before`` where they cannot be read."""
    try:
        rules = _read(files, state, before)
    except (UserError, OSError) as fault:
        words = fault.summary if isinstance(fault, UserError) else str(fault)
        note(f"{words}: what the game sheet says is taken as it was last read")
        return before
    with suppress(sqlite3.Error):  # a state that cannot be written can still be read
        state.set_note(NOTE, rules_text(rules))
        state.set_note(LAID_SINCE, "")
    return rules


def _read(files: PackFiles, state: State, before: FolderRules) -> FolderRules:
    home, pack, sheet = files.home, files.pack, files.sheet
    folders = find_catalogs(home, pack=pack)
    own = (home.pack_file, home.lock_file, sheet.source.file)
    stamps = dict(before.files)
    same = before.catalogs == folders and not state.note(LAID_SINCE) and stamps.keys() >= {*own}
    if same and before.are_current(but_for=home.pack_file):
        mods, unfit = before.mods, before.unfit
        stamps[home.pack_file] = stamp_of(home.pack_file)
    else:
        mods, cards = _read_mods(files, state, before, folders)
        unfit = tuple(_unfit(files, state)) if mods else ()
        stamps = {file: stamp_of(file) for file in (*own, *cards)}
    return FolderRules(
        outside=usable_places(sheet, pack, state.adopted().folder, home),
        places=dict(sheet.places),
        own_files=sheet.own_files,
        carry=sheet.carry,
        settings=tuple(pattern for pattern, word in sheet.settings if word != "replace"),
        path_rules=sheet.path_rules,
        mods=mods,
        surroundings=surroundings(),
        stamps=tuple(stamps.values()),
        starts=sheet.play is not None,
        catalogs=folders,
        unfit=unfit,
        exact_keys=sheet.exact_keys,
    )


def _unfit(files: PackFiles, state: State) -> Iterator[tuple[str, str]]:
    """Yield what stands in the line-up and, by its card of today, is not for this game."""
    catalog = files.catalog_read[0]
    lock = files.lock_if_any
    if catalog is None or lock is None:
        return
    book, game = terms_of(catalog), state.identity()
    for each in lock.releases:
        if each.trial or each.mod not in catalog.mods:
            continue  # it was taken though its card says so; or no card has it
        mask, terms = book.names(each.mod).mask(each.version, each.build), book.terms(each.mod)
        for term in terms.games:
            if term.mask & mask and game.version not in parse_range(term.game):
                yield str(each.name), f"is for game {term.game}"
        for editions in terms.editions:
            if editions.mask & mask and game.edition not in editions.editions:
                yield str(each.name), f"is for edition {', '.join(editions.editions)}"


def _read_mods(
    files: PackFiles, state: State, before: FolderRules, folders: Iterable[str]
) -> tuple[Mapping[str, ModRules], list[str]]:
    """Return what the cards say, by mod, and where these cards are or would be."""
    releases = _releases(files, state)
    catalog = files.catalog_read[0] if releases else None
    mods = {
        mod: _mod_rules(mod, versions, catalog, before.mods.get(mod, ModRules()))
        for mod, versions in releases.items()
    }
    cards = [os.path.join(folder, "cards", f"{mod}.toml") for mod in mods for folder in folders]
    if catalog:
        cards += [card_file(catalog, mod) for mod in map(ModId, mods) if mod in catalog.mods]
    return mods, cards


def _releases(files: PackFiles, state: State) -> dict[str, set[str]]:
    """Return the versions of mods that are in the game or in the line-up."""
    found: dict[str, set[str]] = {}
    for release in state.releases_laid():
        found.setdefault(release.mod, set()).add(release.version)
    try:
        for each in files.lock.releases:
            found.setdefault(each.mod, set()).add(each.version)
    except (NoLineUp, UserError):
        pass
    return found


def _mod_rules(
    mod: str, versions: Container[str], catalog: Catalog | None, before: ModRules
) -> ModRules:
    """Return what a mod's card says of some of its releases; what it said last, where it is faulty."""
    mod_id = ModId(mod)
    if catalog is None or mod_id not in catalog.mods:
        return before
    if not says_of_files(catalog, mod_id):
        return ModRules()
    releases = catalog.mods[mod_id].releases_of(versions)
    return ModRules(
        carry=_patterns(releases, lambda each: each.carry),
        obsolete=_patterns(releases, lambda each: each.obsolete),
        settings=_patterns(
            releases, lambda each: [pattern for pattern, word in each.settings if word != "replace"]
        ),
    )


def _patterns(
    releases: Iterable[Release], patterns_of: Callable[[Release], Iterable[str]]
) -> tuple[str, ...]:
    return tuple(dict.fromkeys(pattern for each in releases for pattern in patterns_of(each)))
