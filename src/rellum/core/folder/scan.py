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
from typing import TYPE_CHECKING, Literal, NamedTuple

from rellum.core.folder.stamps import STAGING_NAME
from rellum.core.values.paths import GAME
from rellum.core.workers import run_both

if TYPE_CHECKING:
    from rellum.core.folder.ahead import Ahead, Token

EntryKind = Literal["file", "folder", "link", "other"]


def kind_of(mode: int) -> EntryKind:
    """Return what an entry with this ``st_mode`` is."""
    if stat.S_ISREG(mode):
        return "file"
    if stat.S_ISDIR(mode):
        return "folder"
    return "link" if stat.S_ISLNK(mode) else "other"


Part = tuple[dict[str, bytes], set[str], int]
"""What was found in a part: the folders that differ, all that were seen, and how many entries."""


class StampScan(NamedTuple):
    """The folders whose stamp is not the recorded one, with the rows found; and those not found."""

    differing: dict[str, bytes]
    missing: frozenset[str]
    files: int


class Scanner:
    """A folder to be scanned, in parts of about equal weight."""

    def __init__(self, root: str, recorded: Mapping[str, bytes]) -> None:
        self.root = root
        self.recorded = recorded if GAME in recorded else {**recorded, GAME: b""}
        starts = _starts(self.recorded)
        self.parts = sorted(starts, key=lambda each: starts[each], reverse=True)
        self._stops = frozenset(self.parts)

    def scan(self, parts: list[str]) -> Part:
        """Scan some of the parts."""
        return _scan_part(self.root, self.recorded, self._stops, parts)

    def again(self, found: Part) -> Part:
        """Read those folders once more that were found to differ."""
        differing, seen, files = found
        rows = _scan_part(self.root, self.recorded, frozenset(self.recorded), list(differing))
        return rows[0], seen, files


def scan_stamps(
    root: str,
    recorded: Mapping[str, bytes],
    ahead: Ahead | None = None,
    token: Token = ("", ""),
) -> StampScan:
    """Compare every folder under ``root`` with its recorded stamp. Raises OSError.

    ``ahead`` has begun already; what it finds counts if its token is the same.
    """
    scanner = Scanner(root, recorded)
    found: list[Part] = []
    if ahead is not None:
        from rellum.core.folder.ahead import collect, work

        mine = work(scanner.parts, ahead.claims, scanner.scan, from_end=True)
        theirs = collect(ahead, token)
        if theirs is not None:
            found = [*mine, *map(scanner.again, theirs)]
    if not found:
        found = _scan_by_two(scanner)
    differing = {folder: rows for part in found for folder, rows in part[0].items()}
    seen = {folder for part in found for folder in part[1]}
    missing = frozenset(folder for folder in scanner.recorded if folder not in seen)
    return StampScan(differing=differing, missing=missing, files=sum(part[2] for part in found))


def _scan_by_two(scanner: Scanner) -> list[Part]:
    first, second = scanner.parts[0::2], scanner.parts[1::2]
    if not second:
        return [scanner.scan(first)]
    return list(run_both(lambda: scanner.scan(first), lambda: scanner.scan(second)))


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


def _scan_part(
    root: str, recorded: Mapping[str, bytes], stops: frozenset[str], starts: list[str]
) -> Part:
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
