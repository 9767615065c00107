"""Differences: where the disk is not as the state records it; what they mean is told elsewhere."""

from __future__ import annotations

import os
import stat
from collections.abc import Container, Iterable, Mapping
from typing import TYPE_CHECKING, NamedTuple, Protocol

from rellum.core.folder.scan import StampScan, scan_stamps
from rellum.core.folder.stamps import split_rows
from rellum.core.values.content import Laid
from rellum.core.values.paths import PlacePath, Roots, below

if TYPE_CHECKING:
    from rellum.core.folder.ahead import Ahead, Token


class Recorded(Protocol):
    """What the state records of the folders."""

    def stamps(self) -> dict[str, bytes]: ...
    def token(self) -> Token: ...
    def laid_outside(self) -> Mapping[PlacePath, Laid]: ...


class Differences(NamedTuple):
    """Paths whose row is not the recorded one: gone, come, or other; a row may be of any kind."""

    gone: dict[PlacePath, str]
    come: dict[PlacePath, str]
    other: dict[PlacePath, tuple[str, str]]
    files_seen: int


class Look(NamedTuple):
    """What was read of the folders, and not yet gone into: the stamps as recorded, and what is other now.

    ``beyond`` are the differences of what lies outside the game folder.
    """

    recorded: dict[str, bytes]
    scan: StampScan
    beyond: Differences

    @property
    def mark(self) -> tuple[object, ...]:
        """What is the same for two looks exactly if they saw the same."""
        beyond = (sorted(each.items()) for each in self.beyond[:3])
        return (sorted(self.scan.differing.items()), sorted(self.scan.missing), *beyond)

    def differences(self) -> Differences:
        """Go into detail in the folders that differ."""
        scan, beyond = self.scan, self.beyond
        seen = scan.files + beyond.files_seen
        found = _differences(self.recorded, scan.differing, scan.missing, seen)
        found.gone.update(beyond.gone)
        found.come.update(beyond.come)
        found.other.update(beyond.other)
        return found


def look_at(
    recorded: Recorded,
    roots: Roots,
    for_mods: Iterable[PlacePath] = (),
    ahead: Ahead | None = None,
) -> Look:
    """Compare names, sizes and times of the whole folder, and of what was laid outside. Raises OSError.

    ``for_mods`` are folders outside the game folder that are for mods alone: any other file there has come.
    ``ahead`` has begun to read already.
    """
    stamps = recorded.stamps()
    scan = scan_stamps(roots.game_folder, stamps, ahead, recorded.token())
    outside = recorded.laid_outside()
    beyond = Differences(gone={}, come={}, other={}, files_seen=len(outside))
    _look_outside(outside.values(), roots, beyond)
    _look_for_others(for_mods, outside, roots, beyond)
    return Look(stamps, scan, beyond)


def _differences(
    recorded: Mapping[str, bytes],
    differing: Mapping[str, bytes],
    missing: frozenset[str],
    files_seen: int,
) -> Differences:
    """Go into detail in the folders whose stamp differs."""
    gone: dict[PlacePath, str] = {}
    come: dict[PlacePath, str] = {}
    other: dict[PlacePath, tuple[str, str]] = {}
    for folder in missing:
        for name, row in _by_name(recorded[folder]).items():
            if not row.endswith("/"):
                gone[PlacePath(f"{folder}/{name}")] = row
    for folder, stamp in differing.items():
        before, now = _by_name(recorded.get(folder, b"")), _by_name(stamp)
        for name in before.keys() | now.keys():
            path = PlacePath(f"{folder}/{name}")
            if name not in now:
                gone[path] = before[name]
            elif name not in before:
                come[path] = now[name]
            elif before[name] != now[name]:
                other[path] = (before[name], now[name])
    # A new folder shows by its files; a folder in which mods lay something is not foreign.
    told = {path.rpartition("/")[0] for path in come} | recorded.keys()
    come = {path: row for path, row in come.items() if not (row.endswith("/") and path in told)}
    return Differences(gone=gone, come=come, other=other, files_seen=files_seen)


def _look_outside(laid: Iterable[Laid], roots: Roots, differences: Differences) -> None:
    """Add what differs of the files that were laid outside the game folder; others there are not ours."""
    for each in laid:
        name = each.path.rpartition("/")[2]
        row = _row_on_disk(roots.absolute(each.path), name)
        if each.content is None:
            if row is not None:
                differences.come[each.path] = row
            continue
        before = f"{name}/{each.content.size}/{each.content.mtime_ns}"
        if row is None:
            differences.gone[each.path] = before
        elif row != before:
            differences.other[each.path] = (before, row)


def _look_for_others(
    folders: Iterable[PlacePath],
    laid: Container[PlacePath],
    roots: Roots,
    differences: Differences,
) -> None:
    """Add what lies in folders outside that are for mods alone, and that no mod laid. Raises OSError."""
    for top in folders:
        start = roots.absolute(top)
        for inside, _, names in os.walk(start):
            relative = os.path.relpath(inside, start).replace(os.sep, "/")
            here = top if relative == "." else below(top, relative)
            for name in names:
                path = below(here, name)
                row = None if path in laid else _row_on_disk(os.path.join(inside, name), name)
                if row is not None:
                    differences.come[path] = row


def _row_on_disk(path: str, name: str) -> str | None:
    try:
        status = os.lstat(path)
    except (FileNotFoundError, NotADirectoryError):
        return None
    if stat.S_ISREG(status.st_mode):
        return f"{name}/{status.st_size}/{status.st_mtime_ns}"
    return f"{name}/" if stat.S_ISDIR(status.st_mode) else f"{name}//"


def _by_name(stamp: bytes) -> dict[str, str]:
    return {row.partition("/")[0]: row for row in split_rows(stamp)}
