"""Vanilla versions of a game whose files are known."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from rellum.core.catalog.release_rules import Source
from rellum.core.versions.version import Version


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownBaseline:
    """The files of a vanilla game by hash, in a file of sums. ``file`` is its absolute path."""

    version: Version
    edition: str | None
    expansions: tuple[str, ...]
    form: Literal["blake3", "sha256"]
    file: str
    source: Source

    def __str__(self) -> str:
        parts = (self.version.text, self.edition or "", *self.expansions)
        return ", ".join(filter(None, parts))
