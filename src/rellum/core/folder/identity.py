"""What a game folder is."""

from __future__ import annotations

from dataclasses import dataclass

from rellum.core.ids import SheetId
from rellum.core.versions.version import Version


@dataclass(frozen=True, slots=True, kw_only=True)
class Identity:
    """What a game folder is. ``evidence`` has a line for each rule that held."""

    sheet: SheetId
    name: str
    version: Version
    edition: str | None
    expansions: tuple[str, ...]
    evidence: tuple[str, ...]
