"""Whose a file is: a release's, or one of the few parties that are no release."""

from collections.abc import Sequence
from enum import Enum
from functools import lru_cache

from rellum.core.values.ids import ModId, ReleaseName


class Party(Enum):
    """Whose a file is that no release brought. ``str`` gives the word that messages and documents use."""

    VANILLA = "vanilla"
    """The game's."""
    RELLUM = "rellum"
    """Rellum's own: the marker in the game folder."""
    FOREIGN = "foreign"
    """Neither the game's nor a mod's."""
    LOAD_ORDER = "load-order"
    """The load-order file's, which Rellum writes for all mods together."""

    def __str__(self) -> str:
        return self.value


Owner = ReleaseName | Party

VANILLA, RELLUM, FOREIGN, LOAD_ORDER = Party

OwnerFields = tuple[str, str, str, str]
"""An owner as state and the journal write it: party, mod, version, build. What does not apply is empty."""


def owner_fields(owner: Owner | None) -> OwnerFields:
    """Return an owner in fields; all are empty for nobody."""
    if owner is None:
        return ("", "", "", "")
    return (owner.value, "", "", "") if isinstance(owner, Party) else ("", *owner)


def owner_of(fields: Sequence[str]) -> Owner:
    """Return the owner that fields mean. Raises ValueError where they mean nobody."""
    owner = _owner_of(*fields)
    if owner is None:
        raise ValueError(f"no owner: {fields!r}")
    return owner


def owner_or_nobody(fields: Sequence[str]) -> Owner | None:
    """Return the owner that fields mean; None where all are empty."""
    return _owner_of(*fields)


@lru_cache(maxsize=4096)  # a state has a row for every file, and few owners
def _owner_of(party: str, mod: str, version: str, build: str) -> Owner | None:
    if party:
        return Party(party)
    return ReleaseName(ModId(mod), version, build) if mod else None


def owner_of_text(text: str) -> Owner | None:
    """Return the owner that a state before schema 5, or a journal before format 5, wrote as one text."""
    if text in {each.value for each in Party}:
        return Party(text)
    mod, _, version = text.partition(" ")
    return ReleaseName(ModId(mod), version) if version else None


def mod_of(owner: Owner) -> str:
    """Return the id of the mod that an owner is a release of; the party's word for one that is none."""
    return owner.value if isinstance(owner, Party) else owner.mod
