"""Setting aside what the user put beside a mod that goes, and what older releases left."""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Container, Iterable, Iterator
from itertools import count

from rellum.core.change.operations import Found, Keep, Operation, SetAside
from rellum.core.composing.wanted import TheUsers
from rellum.core.pack.standing import content_at
from rellum.core.pack.state import State
from rellum.core.values.content import Content
from rellum.core.values.owners import FOREIGN, Party
from rellum.core.values.paths import PlacePath, Roots, below, is_in_game, parents


def set_aside(
    state: State,
    roots: Roots,
    folders: Iterable[PlacePath],
    known: Container[PlacePath],
    users: TheUsers,
) -> Iterator[Operation]:
    """Set aside what the user put into folders that Rellum made for mods that go."""
    seen: set[PlacePath] = set()
    for folder in sorted(state.own_folders().intersection(folders), key=len):
        above = f"{folder}/"
        is_shared = any(f"{each}/".startswith(above) for each in users.shared)
        if is_shared or folder in seen or not is_in_game(folder):
            continue
        owners = (each.owner for each in state.laid_below(folder).values())
        owner = next(owners, FOREIGN)
        if isinstance(owner, Party) or owner.mod in users.mods:
            continue  # nobody's, or of a mod that only has no files there now
        for inside, folders_here, names in os.walk(roots.absolute(folder)):
            here = roots.place_path(inside)
            assert here is not None
            seen |= {below(here, name) for name in folders_here}
            for path in (below(here, name) for name in names):
                absolute = roots.absolute(path)
                if path not in known and stat.S_ISREG(os.lstat(absolute).st_mode):
                    now, _ = content_at(roots, path, None)
                    assert now is not None
                    yield _aside(path, now, Keep(owner.mod))


def with_emptied(
    spare: Iterable[PlacePath], operations: Iterable[Operation], roots: Roots
) -> tuple[PlacePath, ...]:
    """Return folders that go, with those in them that hold nothing once files are set aside; inner first."""
    going = set(spare)
    above = {f for each in operations if isinstance(each, SetAside) for f in parents(each.path)}
    inside = {each for each in above if any(f in going for f in parents(each))}
    there = {each for each in inside if os.path.isdir(roots.absolute(each))}
    return tuple(sorted(going | there, key=len, reverse=True))


def swept(
    roots: Roots, paths: Iterable[PlacePath], known: Container[PlacePath]
) -> Iterator[Operation]:
    """Yield the steps that take left-overs out, where they are not in other steps; no copy is kept here."""
    for path in paths:
        now, _ = (None, False) if path in known else content_at(roots, path, None)
        if now is not None:
            yield _aside(path, now, None)


def _aside(path: PlacePath, now: Content, keep: Keep | None) -> Operation:
    return SetAside(path, Found(now, FOREIGN, is_changed=True), keep)


def new_sweep_folder(above: str) -> str:
    """Return a folder named by date and time; no other sweep of the same second has it."""
    folder = os.path.join(above, time.strftime("%Y-%m-%d %H%M%S"))
    names = (folder if number == 1 else f"{folder} {number}" for number in count(1))
    return next(name for name in names if not os.path.lexists(name))
