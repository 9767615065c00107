"""A .torrent as a list of files and their hashes (BEP 3, 47, 52), and of addresses that have them (BEP 19).

It comes from outside: it is read within limits, and its names lead nowhere but below the folder that somebody
names. Nothing here needs other players, or a package.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from itertools import islice
from typing import Any, Final
from urllib.parse import quote

from rellum.core.errors import UserError
from rellum.core.fetching.bencode import NotBencode, decode
from rellum.core.values.paths import fault_in_relative

ENDING: Final = ".torrent"
_MOST_BYTES: Final = 64 << 20
_MOST_FILES: Final = 500_000
_SIZES: Final = range(1 << 46)
_PIECES: Final = range(1 << 10, (1 << 28) + 1)


class TorrentFault(UserError):
    """A .torrent cannot be read, or is made to do harm."""

    code = "torrent-fault"


@dataclass(frozen=True, slots=True, kw_only=True)
class TorrentEntry:
    """A file in a torrent. ``path`` is below the torrent's own name, empty where it has just this file.

    ``offset`` is where it begins among all bytes (BEP 3), ``root`` the root of its own hash tree (BEP 52);
    each is None where the torrent has only the other. Sizes and offsets are in bytes.
    """

    path: str
    size: int
    offset: int | None = None
    root: bytes | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Torrent:
    """What a .torrent says. ``pieces`` are SHA-1 hashes of ``piece_size`` bytes each, over all files.

    ``length`` is how many bytes those are, with what only fills up pieces.
    """

    name: str
    length: int
    piece_size: int
    entries: tuple[TorrentEntry, ...]
    pieces: tuple[bytes, ...]
    web_seeds: tuple[str, ...]
    content: bytes

    @property
    def is_one_file(self) -> bool:
        """Whether it is just one file, named as the torrent is."""
        return len(self.entries) == 1 and not self.entries[0].path

    def addresses(self, entry: TorrentEntry) -> tuple[str, ...]:
        """Return where a file is to be had by plain HTTP."""
        below = f"{self.name}/{entry.path}" if entry.path else self.name
        return tuple(
            each + quote(below) if each.endswith("/") or entry.path else each
            for each in self.web_seeds
        )


def is_torrent(path: str) -> bool:
    """Whether a path is that of a torrent."""
    return path.lower().endswith(ENDING) and os.path.isfile(path)


def read_torrent_file(path: str) -> Torrent:
    """Read a .torrent. Raises TorrentFault, OSError."""
    if os.path.getsize(path) > _MOST_BYTES:
        raise TorrentFault(f"{path}: it is longer than the {_MOST_BYTES:,} bytes that one may have")
    with open(path, "rb") as file:
        content = file.read(_MOST_BYTES)
    try:
        document = decode(content)
        return _torrent(document, content)
    except (NotBencode, ValueError, KeyError, TypeError, AttributeError, UnicodeError) as error:
        raise TorrentFault(
            f"{path}: this is no torrent that can be read ({_words(error)})",
            hint="Get it again from where it is from.",
        ) from error


def _words(error: Exception) -> str:
    if isinstance(error, KeyError) and isinstance(error.args[0], bytes):
        return f"{error.args[0].decode('ascii', 'replace')!r} is not there"
    return str(error)


def _torrent(document: Any, content: bytes) -> Torrent:
    info = document[b"info"]
    name = _path([info[b"name"]])
    first: dict[str, TorrentEntry] = {}
    if b"pieces" in info:
        first = {each.path: each for each in _entries(info)}
    trees = dict(_tree_entries(info[b"file tree"], name)) if b"file tree" in info else {}
    if first and trees and first.keys() != trees.keys():
        raise ValueError("its two lists of files are not the same")
    entries = tuple(
        TorrentEntry(
            path=path,
            size=(first.get(path) or trees[path]).size,
            offset=first[path].offset if path in first else None,
            root=trees[path].root if path in trees else None,
        )
        for path in (first or trees)
    )
    if not entries or len({each.path.casefold() for each in entries}) != len(entries):
        raise ValueError("it has no file, or two of one name")
    piece_size = _number(info[b"piece length"], _PIECES)
    raw = info.get(b"pieces", b"")
    pieces = tuple(raw[at : at + 20] for at in range(0, len(raw), 20))
    parts = info.get(b"files", [info]) if first else []
    length = sum(each[b"length"] for each in parts)
    if first and len(pieces) != -(-length // piece_size):
        raise ValueError("its hashes are not as many as its files need")
    seeds = document.get(b"url-list", [])
    return Torrent(
        name=name,
        length=length,
        piece_size=piece_size,
        entries=entries,
        pieces=pieces,
        web_seeds=tuple(_addresses(seeds if isinstance(seeds, list) else [seeds])),
        content=content,
    )


def _addresses(seeds: Iterable[bytes]) -> Iterable[str]:
    for each in islice(seeds, 20):
        text = each.decode("ascii", "replace")
        if text.startswith(("http://", "https://")):
            yield text


def _entries(info: Mapping[bytes, Any]) -> Iterable[TorrentEntry]:
    """Yield the files of a torrent by BEP 3, without what only fills up pieces (BEP 47)."""
    if b"files" not in info:
        yield TorrentEntry(path="", size=_number(info[b"length"], _SIZES), offset=0)
        return
    at = 0
    for number, each in enumerate(info[b"files"]):
        if number > _MOST_FILES:
            raise ValueError(f"it has more than {_MOST_FILES:,} files")
        size = _number(each[b"length"], _SIZES)
        attributes = each.get(b"attr", b"")
        if b"l" in attributes:
            raise ValueError("it has a link")
        if b"p" not in attributes:
            yield TorrentEntry(path=_path(each[b"path"]), size=size, offset=at)
        at += size


def _tree_entries(tree: Mapping[bytes, Any], name: str) -> Iterable[tuple[str, TorrentEntry]]:
    """Yield the files of a torrent by BEP 52; a single one of the torrent's own name has no path."""
    found = []
    waiting: list[tuple[list[bytes], Mapping[bytes, Any]]] = [([], tree)]
    while waiting:
        above, folder = waiting.pop()
        for part, below in folder.items():
            if b"" not in below:
                waiting.append(([*above, part], below))
                continue
            file = below[b""]
            if b"l" in file.get(b"attr", b""):
                raise ValueError("it has a link")
            size = _number(file[b"length"], _SIZES)
            root = file.get(b"pieces root", b"")
            if len(root) != (32 if size else 0):
                raise ValueError("the hash of a file is no hash")
            found.append(TorrentEntry(path=_path([*above, part]), size=size, root=root))
        if len(found) > _MOST_FILES:
            raise ValueError(f"it has more than {_MOST_FILES:,} files")
    if len(found) == 1 and found[0].path == name:
        found = [TorrentEntry(path="", size=found[0].size, root=found[0].root)]
    for each in sorted(found, key=lambda one: one.path):
        yield each.path, each


def _path(parts: Iterable[bytes]) -> str:
    names = [part.decode("utf-8") for part in parts]
    path = "/".join(names)
    fault = fault_in_relative(path)
    if not fault and any("/" in each for each in names):
        fault = "a part of it has a slash"
    if not names or fault:
        raise ValueError(f"{path!r} is no path: {fault or 'it is empty'}")
    return path


def _number(value: object, allowed: range) -> int:
    if not isinstance(value, int) or value not in allowed:
        raise ValueError(f"{value!r} is no size")
    return value


def tree_root(leaves: list[bytes]) -> bytes:
    """Return the root over the SHA-256 hashes of a file's blocks of 16 KiB (BEP 52)."""
    empty = bytes(32)
    row = leaves
    while len(row) > 1:
        if len(row) % 2:
            row = [*row, empty]
        row = [hashlib.sha256(row[at] + row[at + 1]).digest() for at in range(0, len(row), 2)]
        empty = hashlib.sha256(empty + empty).digest()
    return row[0]
