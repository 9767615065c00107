"""Reading the game folder.

For checking, where nearly nothing changed, ``scan_stamps`` makes one short text of each
*folder* (the sorted names, sizes and times of what lies in it), compares that with the text
recorded, and goes into detail only where they differ. No object is made for an unchanged file, and
a second process reads half of the folders.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial
from typing import Literal

from rellum.core.folder.stamps import STAGING_NAME
from rellum.core.paths import GAME
from rellum.core.workers import run_both

EntryKind = Literal["file", "folder", "link", "other"]


def kind_of(mode: int) -> EntryKind:
    """Return what an entry with this ``st_mode`` is."""
    if stat.S_ISREG(mode):
        return "file"
    if stat.S_ISDIR(mode):
        return "folder"
    return "link" if stat.S_ISLNK(mode) else "other"


@dataclass(frozen=True, slots=True, kw_only=True)
class StampScan:
    """The folders whose stamp is not the recorded one, with the rows found; and those not found."""

    differing: dict[str, bytes]
    missing: frozenset[str]
    files: int


def scan_stamps(root: str, recorded: Mapping[str, bytes]) -> StampScan:
    """Compare every folder under ``root`` with its recorded stamp. Raises OSError."""
    if GAME not in recorded:
        recorded = {**recorded, GAME: b""}
    starts = _starts(recorded)
    first, second = _halves(starts, recorded)
    scan = partial(_scan_part, root, recorded, frozenset(starts))
    if second:
        ours, theirs = run_both(lambda: scan(first), lambda: scan(second))
        differing, seen, files = {**ours[0], **theirs[0]}, ours[1] | theirs[1], ours[2] + theirs[2]
    else:
        differing, seen, files = scan(first)
    missing = frozenset(folder for folder in recorded if folder not in seen)
    return StampScan(differing=differing, missing=missing, files=files)


_FORK_FROM_BYTES = 400_000
"""Below this many bytes of stamps (about 10,000 files) one process is faster than two."""


def _starts(recorded: Mapping[str, bytes]) -> dict[str, int]:
    """Cut the tree into parts of about equal weight: a part is a folder with all below it that is
    no other part's. Weight is the length of stamps, which stands for the number of files."""
    weights: dict[str, int] = dict.fromkeys(recorded, 0)
    children: dict[str, list[str]] = {}
    for folder in sorted(recorded, key=len, reverse=True):
        weights[folder] += len(recorded[folder])
        parent = folder.rpartition("/")[0]
        if parent in weights:
            weights[parent] += weights[folder]
            children.setdefault(parent, []).append(folder)
    total = weights[GAME]
    starts = {GAME: total}
    if total < _FORK_FROM_BYTES:
        return starts
    while heavy := next((f for f in starts if weights[f] > total // 16 and f in children), None):
        for child in children.pop(heavy):
            starts[child] = weights[child]
            weights[heavy] -= weights[child]
        starts[heavy] = weights[heavy]
    return starts


def _halves(starts: dict[str, int], recorded: Mapping[str, bytes]) -> tuple[list[str], list[str]]:
    first: list[str] = []
    second: list[str] = []
    first_weight = second_weight = 0
    for folder in sorted(starts, key=lambda each: starts[each], reverse=True):
        if first_weight <= second_weight:
            first.append(folder)
            first_weight += starts[folder]
        else:
            second.append(folder)
            second_weight += starts[folder]
    return first, second


def _scan_part(
    root: str, recorded: Mapping[str, bytes], stops: frozenset[str], starts: list[str]
) -> tuple[dict[str, bytes], set[str], int]:
    """Scan the folders named and all below them that are no start of their own."""
    differing: dict[str, bytes] = {}
    seen: set[str] = set()
    files = 0
    waiting = list(starts)
    read_rows = _rows_by_descriptor if _HAS_DESCRIPTORS else _rows_by_path
    while waiting:
        name = waiting.pop()
        try:
            rows, folders = read_rows(root + name[len(GAME) :].replace("/", os.sep))
        except (FileNotFoundError, NotADirectoryError):
            continue
        if name == GAME and STAGING_NAME in folders:
            folders.remove(STAGING_NAME)
            rows.remove(STAGING_NAME + "/")
        waiting += [child for each in folders if (child := f"{name}/{each}") not in stops]
        files += len(rows)
        seen.add(name)
        rows.sort()
        stamp = "\0".join(rows).encode("utf-8", "surrogateescape")
        if recorded.get(name) != stamp:
            differing[name] = stamp
    return differing, seen, files


_HAS_DESCRIPTORS = os.stat in os.supports_dir_fd and os.listdir in os.supports_fd


def _rows_by_descriptor(folder: str) -> tuple[list[str], list[str]]:
    """Return the rows of a folder and the names of the folders in it. Raises OSError.

    Asking by name under an open folder spares the system the way to it: a fifth faster than
    asking by path. The loop is written for speed: it runs once for every file of the game.
    """
    rows: list[str] = []
    folders: list[str] = []
    stat_of = os.stat
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        for name in os.listdir(descriptor):
            try:
                status = stat_of(name, dir_fd=descriptor, follow_symlinks=False)
            except FileNotFoundError:  # it went away since the folder was listed
                continue
            if status.st_mode & 0o170000 == 0o100000:
                rows.append(f"{name}/{status.st_size}/{status.st_mtime_ns}")
            elif status.st_mode & 0o170000 == 0o040000:
                rows.append(f"{name}/")
                folders.append(name)
            else:
                rows.append(_other_row(name, status.st_mode, f"{folder}{os.sep}{name}"))
    finally:
        os.close(descriptor)
    return rows, folders


def _rows_by_path(folder: str) -> tuple[list[str], list[str]]:
    """The same where folders cannot be opened; there the listing itself knows sizes and times."""
    rows: list[str] = []
    folders: list[str] = []
    with os.scandir(folder) as found:
        for each in found:
            status = each.stat(follow_symlinks=False)
            kind = kind_of(status.st_mode)
            if kind == "file":
                rows.append(f"{each.name}/{status.st_size}/{status.st_mtime_ns}")
            elif kind == "folder":
                rows.append(f"{each.name}/")
                folders.append(each.name)
            else:
                rows.append(_other_row(each.name, status.st_mode, each.path))
    return rows, folders


def _other_row(name: str, mode: int, path: str) -> str:
    return f"{name}//{os.readlink(path) if stat.S_ISLNK(mode) else ''}"
