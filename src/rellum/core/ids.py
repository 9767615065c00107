"""Names of things, each a type of its own, so that one is never taken for another."""

from __future__ import annotations

from typing import NewType

ModId = NewType("ModId", str)
"""The id of a mod: small letters, digits and hyphens."""

SheetId = NewType("SheetId", str)
"""The id of a game sheet, of the same form."""
