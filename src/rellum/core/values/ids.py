"""Names of things, each with its own type, so that one is never mistaken for another."""

from typing import NamedTuple, NewType

ModId = NewType("ModId", str)
"""The id of a mod: small letters, digits and hyphens."""

SheetId = NewType("SheetId", str)
"""The id of a game sheet, of the same form."""


class ReleaseName(NamedTuple):
    """Which release of which mod, and which build of it; messages call it ``tidal-currents 3.2``.

    A version can be any text (``Beta 2``), so the name is kept in its parts, and never cut out of a
    sentence.
    """

    mod: ModId
    version: str
    build: str = ""

    @property
    def label(self) -> str:
        """Its version, with its build where it has one: ``3.2 (harbour)``."""
        return f"{self.version} ({self.build})" if self.build else self.version

    def __str__(self) -> str:
        return f"{self.mod} {self.version}"
