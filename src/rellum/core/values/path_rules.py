"""How a game compares paths: the one place that knows whether capitals count."""

from collections.abc import Sequence
from typing import NamedTuple

from rellum.core.globs import PathTest, any_test


class PathRules(NamedTuple):
    """How paths of a game, and of members of its containers, compare; made from its sheet.

    ``folds_case``: to the game, ``Data`` and ``data`` are one.
    """

    folds_case: bool = False

    def test(self, patterns: Sequence[str]) -> PathTest:
        """Return the test whether a path, or a folder of that path, fits one of the patterns."""
        return any_test(patterns, folds_case=self.folds_case)

    def key(self, path: str) -> str:
        """Return the same text for all paths that are one to the game."""
        return path.casefold() if self.folds_case else path


EXACT = PathRules()
"""Of games to which capitals count."""
