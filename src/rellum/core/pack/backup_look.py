"""How the player's files stood when a backup was made: what tells quickly that nothing changed since."""

from array import array
from collections.abc import Iterator, Mapping
from itertools import chain
from operator import itemgetter
from typing import NamedTuple

from rellum.core.pack.backup import SeenFile
from rellum.core.values.paths import PlacePath

_MARKS = itemgetter(1, 2, 3, 4)
_MARK_BYTES = 4 * 8
_BLOCK_BYTES = 32 * _MARK_BYTES


class Look(NamedTuple):
    """How all files stood: their paths, a line each, and four numbers for each that tell a change."""

    paths: str
    marks: bytes

    @classmethod
    def at(cls, seen: Mapping[PlacePath, SeenFile]) -> "Look":
        """Return the look at these files, in the order in which they were found."""
        marks = array("q", chain.from_iterable(map(_MARKS, seen.values())))
        return cls("\n".join(seen), marks.tobytes())

    def unlike(self, other: "Look") -> list[PlacePath]:
        """Return the paths that the other look does not have, or not so."""
        if self.paths == other.paths and len(self.marks) == len(other.marks):
            return [PlacePath(path) for path in self._remarked(other)]
        before = set(other._lines())
        return [PlacePath(path) for path, marks in self._lines() if (path, marks) not in before]

    def _remarked(self, other: "Look") -> Iterator[str]:
        """Yield the paths whose marks are other, of the same paths: nearly all blocks are the same."""
        paths = self.paths.split("\n")
        for start in range(0, len(self.marks), _BLOCK_BYTES):
            end = start + _BLOCK_BYTES
            if self.marks[start:end] == other.marks[start:end]:
                continue
            for at in range(start, min(end, len(self.marks)), _MARK_BYTES):
                if self.marks[at : at + _MARK_BYTES] != other.marks[at : at + _MARK_BYTES]:
                    yield paths[at // _MARK_BYTES]

    def _lines(self) -> Iterator[tuple[str, bytes]]:
        starts = range(0, len(self.marks), _MARK_BYTES)
        marks = (self.marks[start : start + _MARK_BYTES] for start in starts)
        return zip(self.paths.split("\n"), marks, strict=False)  # no paths are one empty text
