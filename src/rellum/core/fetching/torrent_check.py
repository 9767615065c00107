"""Which files of a torrent are here, and whole."""

from __future__ import annotations

import hashlib
import os
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Final, Literal

from rellum.core.fetching.torrent_file import Torrent, TorrentEntry, tree_root
from rellum.core.hashing import open_regular

_BLOCK: Final = 16 << 10
FileState = Literal["whole", "unsure", "damaged", "missing"]


@dataclass(frozen=True, slots=True, kw_only=True)
class CheckedFile:
    """A file of a torrent, where it is or should be, and how it is.

    unsure: it has its size and nothing is wrong, but a piece of it reaches into a file that is not here
    damaged: it has another size, or ``wrong`` of its pieces are not as the torrent says (0: not known which)
    """

    entry: TorrentEntry
    path: str
    state: FileState
    wrong: int = 0


def find_files(torrent: Torrent, places: Sequence[str]) -> str:
    """Return the folder below which the torrent's files are, of those that may be meant: the fullest.

    In each place that is: the folder of the torrent's name, the place itself, and what is one level deeper
    in either. For a single file it is the folder that has it.
    """
    candidates = [each for place in places for each in _candidates(torrent, place)]
    return max(candidates, key=lambda folder: _here(torrent, folder))


def _candidates(torrent: Torrent, place: str) -> Iterator[str]:
    named = os.path.join(place, torrent.name)
    for folder in [place] if torrent.is_one_file else [named, place]:
        yield folder
        if os.path.isdir(folder):
            with os.scandir(folder) as entries:
                yield from sorted(each.path for each in entries if each.is_dir())


def _here(torrent: Torrent, folder: str) -> int:
    return sum(_size(file_of(torrent, each, folder)) == each.size for each in torrent.entries)


def file_of(torrent: Torrent, entry: TorrentEntry, folder: str) -> str:
    """Return where a file of a torrent is, below a folder."""
    return os.path.join(folder, *(entry.path or torrent.name).split("/"))


def _size(path: str) -> int | None:
    return os.path.getsize(path) if os.path.isfile(path) and not os.path.islink(path) else None


def check_files(torrent: Torrent, folder: str) -> tuple[CheckedFile, ...]:
    """Read all files of a torrent that are here, and say how each is. Raises OSError."""
    paths = {each: file_of(torrent, each, folder) for each in torrent.entries}
    by_pieces = _Pieces(torrent, paths) if any(each.root is None for each in paths) else None
    return tuple(_checked(each, path, by_pieces) for each, path in paths.items())


def _checked(entry: TorrentEntry, path: str, by_pieces: _Pieces | None) -> CheckedFile:
    size = _size(path)
    if size != entry.size:
        state: FileState = "missing" if size is None else "damaged"
        return CheckedFile(entry=entry, path=path, state=state)
    if entry.root is not None:
        whole = entry.root == (_root_of(path) if size else b"")
        return CheckedFile(entry=entry, path=path, state="whole" if whole else "damaged")
    assert by_pieces is not None
    wrong = by_pieces.wrong[entry]
    state = "damaged" if wrong else "unsure" if by_pieces.unknown[entry] else "whole"
    return CheckedFile(entry=entry, path=path, state=state, wrong=wrong)


def _root_of(path: str) -> bytes:
    with open(open_regular(path), "rb") as file:
        leaves = [hashlib.sha256(block).digest() for block in iter(lambda: file.read(_BLOCK), b"")]
    return tree_root(leaves)


class _Pieces:
    """How many pieces of each file are wrong, or cannot be told: a piece may reach over several files."""

    def __init__(self, torrent: Torrent, paths: dict[TorrentEntry, str]) -> None:
        self.wrong: Counter[TorrentEntry] = Counter()
        self.unknown: Counter[TorrentEntry] = Counter()
        self._torrent = torrent
        hasher, filled, in_piece, number = hashlib.sha1(usedforsecurity=False), 0, set(), 0
        is_known = True
        for entry, content, size in self._all_bytes(paths):
            while size:
                part = min(size, torrent.piece_size - filled)
                if entry is not None:
                    in_piece.add(entry)
                if content is None:
                    is_known = False
                else:
                    hasher.update(content[:part])
                    content = content[part:]
                filled, size = filled + part, size - part
                if filled == torrent.piece_size:
                    self._end(number, hasher.digest() if is_known else None, in_piece)
                    hasher, filled, in_piece = hashlib.sha1(usedforsecurity=False), 0, set()
                    number, is_known = number + 1, True
        if filled:
            self._end(number, hasher.digest() if is_known else None, in_piece)

    def _end(self, number: int, digest: bytes | None, entries: Iterable[TorrentEntry]) -> None:
        counter = self.unknown if digest is None else self.wrong
        if digest != self._torrent.pieces[number]:
            counter.update(entries)

    def _all_bytes(
        self, paths: dict[TorrentEntry, str]
    ) -> Iterator[tuple[TorrentEntry | None, bytes | None, int]]:
        """Yield all bytes of the torrent in order, with whose they are: None for what only fills up.

        Of a file that is not here they are None; ``size`` says how many.
        """
        at = 0
        for entry in sorted(paths, key=lambda one: (one.offset or 0, one.size)):
            offset = entry.offset or 0
            if offset > at:
                yield from ((None, bytes(part), part) for part in _parts(offset - at))
            at = offset + entry.size
            if _size(paths[entry]) != entry.size:
                yield entry, None, entry.size
                continue
            with open(open_regular(paths[entry]), "rb") as file:
                for part in _parts(entry.size):
                    content = file.read(part)
                    yield entry, content if len(content) == part else None, part
        yield from ((None, bytes(part), part) for part in _parts(self._torrent.length - at))


def _parts(size: int) -> Iterator[int]:
    while size:
        part = min(size, 1 << 20)
        yield part
        size -= part
