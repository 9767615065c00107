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
        before = set(other._lines())
        return [PlacePath(path) for path, marks in self._lines() if (path, marks) not in before]

    def _lines(self) -> Iterator[tuple[str, bytes]]:
        starts = range(0, len(self.marks), _MARK_BYTES)
        marks = (self.marks[start : start + _MARK_BYTES] for start in starts)
        return zip(self.paths.split("\n"), marks, strict=False)  # no paths are one empty text
