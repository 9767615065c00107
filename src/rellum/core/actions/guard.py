"""Guard: the files through which the game's store updates it are made read-only, and back."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from rellum.core.actions.catalogs import catalog_of
from rellum.core.actions.open_pack import OnRecovered, OpenPack, open_pack
from rellum.core.actions.outside import roots_of
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import UserError
from rellum.core.folder.model import Guard
from rellum.core.globs import WILDCARD, any_test, fixed_folder
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.paths import PlacePath, Roots, below, is_in_game, root_of

_WRITABLE = stat.S_IWUSR | stat.S_IWGRP | stat.S_IWOTH


class NothingToGuard(UserError):
    """The game sheet names no files of the store, or none of them is there."""

    code = "nothing-to-guard"


@dataclass(frozen=True, slots=True, kw_only=True)
class Guarded:
    """The files that are read-only now, or were until now."""

    is_on: bool
    files: tuple[PlacePath, ...]


def guard(pack_folder: str, on: bool, on_recovered: OnRecovered) -> Guarded:
    """Turn the guard on or off. What each file's mode was is noted before it changes.

    Raises NothingToGuard, OSError.
    """
    with open_pack(pack_folder, on_recovered) as opened:
        before = opened.state.guarded()
        if on:
            return _turn_on(opened, before)
        known = {**opened.roots.outside, **_outside_of(opened, before)}
        roots = Roots(opened.roots.game_folder, known)
        for path, mode in before.items():
            file = roots.absolute(path)
            if os.path.isfile(file):
                os.chmod(file, mode)
        opened.state.set_guarded({})
        return Guarded(is_on=False, files=tuple(sorted(before)))


def _turn_on(opened: OpenPack, before: Mapping[PlacePath, int]) -> Guarded:
    pack = read_pack_file(opened.home)
    sheet = catalog_of(opened.home, pack).sheet
    if not sheet.store_files:
        raise NothingToGuard(
            f"the game sheet names no files by which its store updates it ({place_of(sheet.source)})",
            hint='Name them: store-files = ["@game/update.list"] under [game].',
        )
    roots = roots_of(opened, sheet, pack)
    modes = dict(_matching(sheet.store_files, roots))
    if not modes:
        raise NothingToGuard(
            f"none of the store's files is there: {', '.join(sheet.store_files)}",
            hint="Correct store-files in the game sheet, or have the store install the game.",
        )
    # The mode that a file had before it was guarded first is the one that comes back.
    opened.state.set_guarded({**modes, **{p: m for p, m in before.items() if p in modes}})
    for path, mode in modes.items():
        os.chmod(roots.absolute(path), mode & ~_WRITABLE)
    return Guarded(is_on=True, files=tuple(sorted(modes)))


def _outside_of(opened: OpenPack, paths: Mapping[PlacePath, int]) -> dict[str, str]:
    """Return the places outside the game that guarded files lie in; asked only where there are any."""
    if all(map(is_in_game, paths)):
        return {}
    pack = read_pack_file(opened.home)
    return dict(roots_of(opened, catalog_of(opened.home, pack).sheet, pack).outside)


def _matching(patterns: tuple[str, ...], roots: Roots) -> Iterator[tuple[PlacePath, int]]:
    """Yield the files that fit, with their modes; only folders that a pattern can mean are read."""
    fits = any_test(patterns)
    for pattern in patterns:
        folder = PlacePath(fixed_folder(pattern).rstrip("/"))
        if root_of(folder) not in roots.outside and not is_in_game(PlacePath(f"{folder}/")):
            continue
        start = roots.absolute(folder)
        for inside, folders, names in os.walk(start):
            relative = os.path.relpath(inside, start).replace(os.sep, "/")
            here = folder if relative == "." else below(folder, relative)
            for path in (below(here, name) for name in names):
                mode = os.lstat(roots.absolute(path)).st_mode
                if stat.S_ISREG(mode) and fits(path):
                    yield path, stat.S_IMODE(mode)
            if not WILDCARD.search(pattern):
                folders.clear()


def look_at_guard(guarded: Mapping[PlacePath, int], roots: Roots) -> Guard:
    """Say whether guarded files are still read-only. Files of places not known now count as broken."""
    broken = []
    for path in sorted(guarded):
        known = is_in_game(path) or root_of(path) in roots.outside
        try:
            mode = os.lstat(roots.absolute(path)).st_mode if known else _WRITABLE
        except OSError:
            mode = _WRITABLE
        if mode & _WRITABLE:
            broken.append(path)
    return Guard(files=len(guarded), broken=tuple(broken))
