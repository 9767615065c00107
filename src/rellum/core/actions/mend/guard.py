"""Guard: make the store's update files read-only, or writable again."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from rellum.core.catalog.toml_lines import place_of
from rellum.core.change.execute import execute
from rellum.core.change.opening import open_pack
from rellum.core.change.plan import ModeChange, Plan
from rellum.core.change.request import Request
from rellum.core.change.staging import NoSources
from rellum.core.composing.known_folders import spelt
from rellum.core.errors import UserError
from rellum.core.folder.model import Guard
from rellum.core.globs import WILDCARD, fixed_folder
from rellum.core.pack.outside import roots_of
from rellum.core.pack.session import Session
from rellum.core.values.path_rules import PathRules
from rellum.core.values.paths import PlacePath, Roots, below, is_in_game, root_of

_WRITABLE = stat.S_IWUSR | stat.S_IWGRP | stat.S_IWOTH


class NothingToGuard(UserError):
    """The game sheet names no files of the store, or none of them is there."""

    code = "nothing-to-guard"


@dataclass(frozen=True, slots=True, kw_only=True)
class Guarded:
    """The files that are read-only now, or were until now."""

    is_on: bool
    files: tuple[PlacePath, ...]


def guard(request: Request, on: bool) -> Guarded:
    """Turn the guard on or off, as one change: all files, or none. Raises NothingToGuard, RolledBack."""
    with open_pack(request) as opened:
        before = opened.state.guarded()
        return _turn_on(opened, before) if on else _turn_off(opened, before)


def _turn_on(opened: Session, before: Mapping[PlacePath, int]) -> Guarded:
    pack, sheet = opened.files.pack, opened.files.sheet
    if not sheet.store_files:
        raise NothingToGuard(
            f"the game sheet does not list the store's update files ({place_of(sheet.source)})",
            hint='List them: store-files = ["@game/update.list"] under [game].',
        )
    roots = roots_of(opened, sheet, pack)
    modes = dict(_matching(sheet.store_files, opened._replace(roots=roots), sheet.path_rules))
    if not modes:
        raise NothingToGuard(
            f"none of the store's update files exists: {', '.join(sheet.store_files)}",
            hint="Correct store-files in the game sheet, or let the store install the game.",
        )
    changes = [(path, mode, mode & ~_WRITABLE) for path, mode in modes.items()]
    # The mode that a file had before it was guarded first is the one that comes back.
    guarded = {**modes, **{path: mode for path, mode in before.items() if path in modes}}
    _change_modes(opened._replace(roots=roots), "guard on", changes, guarded)
    return Guarded(is_on=True, files=tuple(sorted(modes)))


def _turn_off(opened: Session, before: Mapping[PlacePath, int]) -> Guarded:
    now = {path: mode for path in before if (mode := _mode_of(path, opened.roots)) is not None}
    changes = [(path, mode, before[path]) for path, mode in now.items()]
    if before:
        _change_modes(opened, "guard off", changes, {})
    return Guarded(is_on=False, files=tuple(sorted(now)))


def _change_modes(
    opened: Session,
    action: str,
    changes: Iterable[ModeChange],
    guarded: Mapping[PlacePath, int],
) -> None:
    plan = Plan(
        modes=tuple(sorted(each for each in changes if each[1] != each[2])),
        guarded=tuple(sorted(guarded.items())),
    )
    execute(plan, action, opened.site, NoSources())


def _mode_of(path: PlacePath, roots: Roots) -> int | None:
    """Return a file's mode; None where it is gone, is a link, or lies in a place not known now."""
    if not is_in_game(path) and root_of(path) not in roots.outside:
        return None
    try:
        mode = os.lstat(roots.absolute(path)).st_mode
    except OSError:
        return None
    return stat.S_IMODE(mode) if stat.S_ISREG(mode) else None


def _matching(
    patterns: tuple[str, ...], opened: Session, rules: PathRules
) -> Iterator[tuple[PlacePath, int]]:
    """Yield the files that fit, with their modes; only folders that a pattern can mean are read."""
    roots = opened.roots
    fits = rules.test(patterns)
    for pattern in patterns:
        folder = spelt(opened.state, PlacePath(fixed_folder(pattern).rstrip("/")), rules)
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
    modes = {path: _mode_of(path, roots) for path in sorted(guarded)}
    broken = [path for path, mode in modes.items() if mode is None or mode & _WRITABLE]
    return Guard(files=len(guarded), broken=tuple(broken))
