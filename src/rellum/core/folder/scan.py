"""Reading the game folder.

``list_folder`` gives an entry object for each file: for adopting, where every file is new.
``scan_stamps`` is for checking, where nearly nothing changed: it makes one short text of each
*folder* (the sorted names, sizes and times of what lies in it), compares that with the text
recorded, and goes into detail only where they differ. No object is made for an unchanged file, and
a second process reads half of the folders.

A folder's stamp is its rows, sorted, joined by NUL. A row is ``name/size/mtime_ns`` for a file,
``name/`` for a folder, ``name//target`` for a link and ``name//`` for anything else. A slash and a
NUL are the two signs that no file name holds.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import partial
from typing import Literal

from rellum.core.paths import GAME
from rellum.core.workers import run_both

MARKER_NAME = ".rellum-owner.toml"
STAGING_NAME = ".rellum-staging"

EntryKind = Literal["file", "folder", "link", "other"]


@dataclass(frozen=True, slots=True, kw_only=True)
class FolderEntry:
    """One thing in the game folder. ``size`` in bytes, ``mtime_ns`` in ns since the epoch."""

    path: str
    kind: EntryKind
    size: int
    mode: int
    mtime_ns: int
    target: str


def list_folder(root: str) -> list[FolderEntry]:
    """Return everything under ``root`` by path, sorted; links are not followed. Raises OSError."""
    entries: list[FolderEntry] = []
    waiting = [(root, GAME)]
    while waiting:
        folder, prefix = waiting.pop()
        with os.scandir(folder) as found:
            for each in found:
                if _is_ours(prefix, each.name):
                    continue
                status = each.stat(follow_symlinks=False)
                path = f"{prefix}/{each.name}"
                kind = kind_of(status.st_mode)
                if kind == "folder":
                    waiting.append((each.path, path))
                entries.append(
                    FolderEntry(
                        path=path,
                        kind=kind,
                        size=status.st_size if kind == "file" else 0,
                        mode=stat.S_IMODE(status.st_mode),
                        mtime_ns=status.st_mtime_ns,
                        target=os.readlink(each.path) if kind == "link" else "",
                    )
                )
    entries.sort(key=lambda entry: entry.path)
    return entries


def kind_of(mode: int) -> EntryKind:
    """Return what an entry with this ``st_mode`` is."""
    if stat.S_ISREG(mode):
        return "file"
    if stat.S_ISDIR(mode):
        return "folder"
    return "link" if stat.S_ISLNK(mode) else "other"


def _is_ours(prefix: str, name: str) -> bool:
    return prefix == GAME and name == STAGING_NAME


def stamp_row(entry: FolderEntry, name: str) -> str:
    """Return the row of one entry in its folder's stamp."""
    if entry.kind == "file":
        return f"{name}/{entry.size}/{entry.mtime_ns}"
    if entry.kind == "folder":
        return f"{name}/"
    return f"{name}//{entry.target}"


def join_rows(rows: Iterable[str]) -> bytes:
    """Return the stamp that holds these rows."""
    return "\0".join(sorted(rows)).encode("utf-8", "surrogateescape")


def split_rows(stamp: bytes) -> list[str]:
    """Return the rows of a stamp."""
    return stamp.decode("utf-8", "surrogateescape").split("\0") if stamp else []


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
    """Scan the folders named and all below them that are no start of their own.

    The loop is written for speed: it runs once for every file of the game.
    """
    differing: dict[str, bytes] = {}
    seen: set[str] = set()
    files = 0
    waiting = [(root + start[len(GAME) :].replace("/", os.sep), start) for start in starts]
    is_link = stat.S_ISLNK
    while waiting:
        folder, name = waiting.pop()
        rows: list[str] = []
        try:
            found = os.scandir(folder)
        except (FileNotFoundError, NotADirectoryError):
            continue
        with found:
            for each in found:
                status = each.stat(follow_symlinks=False)
                mode = status.st_mode
                if mode & 0o170000 == 0o100000:
                    rows.append(f"{each.name}/{status.st_size}/{status.st_mtime_ns}")
                elif mode & 0o170000 == 0o040000:
                    child = f"{name}/{each.name}"
                    if not _is_ours(name, each.name):
                        rows.append(f"{each.name}/")
                        if child not in stops:
                            waiting.append((each.path, child))
                else:
                    target = os.readlink(each.path) if is_link(mode) else ""
                    rows.append(f"{each.name}//{target}")
        files += len(rows)
        seen.add(name)
        rows.sort()
        stamp = "\0".join(rows).encode("utf-8", "surrogateescape")
        if recorded.get(name) != stamp:
            differing[name] = stamp
    return differing, seen, files
