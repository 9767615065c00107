"""Names of things, each a type of its own, so that one is never taken for another."""

from __future__ import annotations

from typing import NamedTuple, NewType

ModId = NewType("ModId", str)
"""The id of a mod: small letters, digits and hyphens."""

SheetId = NewType("SheetId", str)
"""The id of a game sheet, of the same form."""


class ReleaseName(NamedTuple):
    """Which release of which mod; messages call it ``tidal-currents 3.2``.

    A version can be any text (``Beta 2``), so the name is kept in its parts, and never cut out of a
    sentence. What Rellum laid is of a version; which build of it was laid, the line-up tells.
    """

    mod: ModId
    version: str

    def __str__(self) -> str:
        return f"{self.mod} {self.version}"


def release_of_owner(owner: str) -> ReleaseName | None:
    """Return the release that the state notes as an owner; None for ``vanilla`` and others of one word.

    The one place that reads a name which was written: an id holds no space, which the catalog sees to.
    """
    mod, space, version = owner.partition(" ")
    return ReleaseName(ModId(mod), version) if space else None
