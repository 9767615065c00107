"""Backups of what is the player's own: make, list, show, compare, check, drop."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import NamedTuple

from rellum.core.change.backing_up import circumstances, players_files
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.errors import UserError
from rellum.core.hashing import hash_file
from rellum.core.pack.backup import Backup, BackupFault, Made
from rellum.core.pack.backups import Backups
from rellum.core.pack.home import pack_home
from rellum.core.pack.session import Session
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath

# What plans, changes the game and reads archives is imported where it is done: most calls only keep or list.


class NoBackup(UserError):
    """A backup, or a file of one, is not there, or cannot be brought back."""

    code = "no-backup"


class BackupResult(NamedTuple):
    """A backup that was made, or the newest, where nothing has changed since it. None: nothing to keep."""

    made: Made
    backup: Backup | None


class Comparison(NamedTuple):
    """What differs between two backups, or between one and what stands there now (``other`` None)."""

    backup: Backup
    other: Backup | None
    came: tuple[PlacePath, ...]
    changed: tuple[PlacePath, ...]
    gone: tuple[PlacePath, ...]


def make_backup(request: Request, name: str = "") -> BackupResult:
    """Keep what is the player's own as it is now. Raises NoBackup for a bad name, BackupFault."""
    _refuse_bad_name(name)
    with open_pack(request) as opened:
        opened.state.refuse_unfit()
        seen = players_files(opened.rules, opened.state, opened.roots)
        if not seen and not name and not os.path.exists(opened.home.backups_folder):
            return BackupResult(made=Made(0, is_new=False), backup=None)
        with Backups(opened.home.backups_folder) as backups:
            if name and name in backups.names():
                raise NoBackup(f"another backup is called {name!r}", hint="Choose another name.")
            made = backups.make(seen, circumstances(opened.home, opened.state, ""), name)
            backup = backups.find(str(made.number)) if made.number else None
            return BackupResult(made=made, backup=backup)


def _refuse_bad_name(name: str) -> None:
    if name.isdigit() or name != name.strip() or not name.isprintable():
        raise NoBackup(
            f"a backup cannot be called {name!r}",
            hint="Choose a name that is not just a number, such as 'before-the-storm'.",
        )


def list_backups(request: Request) -> list[Backup]:
    """Return all backups, the newest first. Raises BackupFault."""
    home = pack_home(request.pack_folder)
    if not os.path.exists(home.backups_folder):
        return []
    with Backups(home.backups_folder) as backups:
        return backups.all()


def show_backup(request: Request, name: str) -> tuple[Backup, dict[PlacePath, Content]]:
    """Return a backup and what it has. Raises BackupFault."""
    with open_backups(request) as backups:
        found = backups.find(name)
        return found, backups.files_of(found.number)


def compare_backups(request: Request, name: str, other: str = "") -> Comparison:
    """Tell what differs from a backup to another, or to what stands there now. Raises BackupFault."""
    if other:
        with open_backups(request) as backups:
            first, second = backups.find(name), backups.find(other)
            return _compared(
                first, second, backups.files_of(first.number), backups.files_of(second.number)
            )
    with open_pack(request) as opened, backups_of(opened) as backups:
        first = backups.find(name)
        return _compared(first, None, backups.files_of(first.number), _standing(opened))


def _standing(opened: Session) -> dict[PlacePath, Content]:
    seen = players_files(opened.rules, opened.state, opened.roots)
    return {
        path: Content(hash_file(each.file), each.size, each.mode, each.mtime_ns)
        for path, each in seen.items()
    }


def _compared(
    first: Backup,
    second: Backup | None,
    before: dict[PlacePath, Content],
    after: dict[PlacePath, Content],
) -> Comparison:
    both = before.keys() & after.keys()
    return Comparison(
        backup=first,
        other=second,
        came=tuple(sorted(after.keys() - before.keys())),
        changed=tuple(sorted(path for path in both if before[path].digest != after[path].digest)),
        gone=tuple(sorted(before.keys() - after.keys())),
    )


def drop_backups(request: Request, names: Sequence[str]) -> tuple[list[Backup], int]:
    """Forget backups; return them, and the bytes freed. Raises BackupFault."""
    with open_pack(request) as opened, backups_of(opened) as backups:
        opened.state.refuse_unfit()
        found = [backups.find(name) for name in names]
        return found, backups.drop(each.number for each in found)


def check_backups(request: Request) -> list[tuple[PlacePath, int]]:
    """Read every kept file; return those that are lost or damaged, with a backup that has them."""
    with open_backups(request) as backups:
        return list(backups.damaged())


@contextmanager
def open_backups(request: Request) -> Iterator[Backups]:
    """Open a pack's backups, without its game. Raises BackupFault where there are none."""
    home = pack_home(request.pack_folder)
    if not os.path.exists(home.backups_folder):
        raise _none_yet()
    with Backups(home.backups_folder) as backups:
        yield backups


@contextmanager
def backups_of(opened: Session) -> Iterator[Backups]:
    """Open the backups of a pack that is open. Raises BackupFault where there are none."""
    if not os.path.exists(opened.home.backups_folder):
        raise _none_yet()
    with Backups(opened.home.backups_folder) as backups:
        yield backups


def _none_yet() -> BackupFault:
    return BackupFault("there is no backup yet", hint="'rellum backup' makes one.")
