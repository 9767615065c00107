"""What a game folder is."""

from __future__ import annotations

from dataclasses import dataclass

from rellum.core.values.ids import SheetId
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

    def told_beside(self, other: Identity) -> str:
        """Return what tells this from another: the version; where that is the same, edition and
        expansions.
        """
        if self.version.text != other.version.text:
            return self.version.text
        parts = [self.version.text]
        if self.edition != other.edition:
            parts.append(f"of edition {self.edition}" if self.edition else "of no edition")
        if set(self.expansions) != set(other.expansions):
            words = (
                f"with {', '.join(self.expansions)}" if self.expansions else "without expansions"
            )
            parts.append(words)
        return " ".join(parts)

    def has_moved_on_from(self, before: Identity) -> bool:
        """Whether the game was updated: another version or edition, or an expansion that is new.

        An expansion that is gone is no update: the file by which it is known may just be damaged.
        """
        if (self.version.text, self.edition) != (before.version.text, before.edition):
            return True
        return not set(self.expansions) <= set(before.expansions)
