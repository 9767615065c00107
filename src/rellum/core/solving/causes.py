"""The meaning of a clause: a statement of a card, a trial, the pack or the game, as data.

``rellum.core.solving.sentences`` puts them into words. They are not frozen, though nobody changes them: a
large catalog has hundreds of thousands, and a frozen one takes four times as long to make.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from rellum.core.catalog.model import (
    Clash,
    MadeFor,
    Mod,
    Need,
    OptionChoice,
    OptionGroup,
    Release,
    Trial,
)
from rellum.core.solving.problem import Hold, Want
from rellum.core.solving.variables import ModVariable
from rellum.core.values.ids import ModId
from rellum.core.versions.version import Version


@dataclass(slots=True, eq=False)
class Cause:
    """The root of all causes; two are the same only where they are one object."""


@dataclass(slots=True, eq=False)
class OfReleases(Cause):
    """Something that some releases of a mod say alike. ``mask`` has their values."""

    variable: ModVariable = field(repr=False)
    mask: int

    @property
    def releases(self) -> tuple[Release, ...]:
        """The releases, newest first."""
        return self.variable.releases(self.mask)


@dataclass(slots=True, eq=False)
class Needs(OfReleases):
    """They need one of several mods. ``option`` where an option of theirs does, and not they.

    Where nothing in the catalog meets the need, ``there`` are the versions that there are.
    """

    need: Need
    option: OptionChoice | None = None
    there: tuple[str, ...] | None = None


@dataclass(slots=True, eq=False)
class Clashes(OfReleases):
    """They clash with a mod. ``option`` where an option of theirs does.

    ``stand_in`` is what they clash with in its place: some releases of another mod offer what it does.
    """

    clash: Clash
    option: OptionChoice | None = None
    stand_in: ModId | None = None


@dataclass(slots=True, eq=False)
class ForGame(OfReleases):
    """They are for some versions of the game. ``option`` where an option of theirs is."""

    game: str
    trials: tuple[Trial, ...] = ()
    option: OptionChoice | None = None


@dataclass(slots=True, eq=False)
class ForEditions(OfReleases):
    """They are for some editions of the game."""

    editions: tuple[str, ...]


@dataclass(slots=True, eq=False)
class ForExpansion(OfReleases):
    """They need an expansion, or forbid it. ``option`` where an option of theirs does."""

    expansion: str
    needed: bool
    option: OptionChoice | None = None


@dataclass(slots=True, eq=False)
class ForVariant(OfReleases):
    """They go only on some variants of another mod."""

    made_for: MadeFor


@dataclass(slots=True, eq=False)
class Prerelease(OfReleases):
    """They are pre-releases that nobody asked for."""


@dataclass(slots=True, eq=False)
class Withdrawn(OfReleases):
    """They were withdrawn."""


@dataclass(slots=True, eq=False)
class Unfinished(OfReleases):
    """Their card has lines that a person must still decide."""


@dataclass(slots=True, eq=False)
class LoadsAfter(OfReleases):
    """Their card says that they load after another mod, or before it."""

    other: ModId
    is_after: bool


@dataclass(slots=True, eq=False)
class LoadsInCircle(Cause):
    """Releases whose hints about the load order run in a circle."""

    hints: tuple[LoadsAfter, ...]


@dataclass(slots=True, eq=False)
class Broke(Cause):
    """These releases broke together on a game version."""

    trial: Trial


@dataclass(slots=True, eq=False)
class NoCard(Cause):
    """No card of the catalog is for a mod."""

    mod: ModId


@dataclass(slots=True, eq=False)
class OptionFor(Cause):
    """An option goes only with some releases of its mod; ``choice`` None: they must have one."""

    mod: Mod = field(repr=False)
    group: OptionGroup
    choice: OptionChoice | None


@dataclass(slots=True, eq=False)
class Wanted(Cause):
    """The pack wants a mod in a range."""

    want: Want


@dataclass(slots=True, eq=False)
class OptionWanted(Cause):
    """The pack wants a mod with an option."""

    want: Want
    group: str
    choices: tuple[str, ...]


@dataclass(slots=True, eq=False)
class Held(Cause):
    """The pack holds a mod at a version."""

    hold: Hold


@dataclass(slots=True, eq=False)
class GameIs(Cause):
    """The game has one of these versions."""

    versions: tuple[Version, ...]


@dataclass(slots=True, eq=False)
class EditionIs(Cause):
    """The game is of this edition."""

    edition: str | None


@dataclass(slots=True, eq=False)
class ExpansionIs(Cause):
    """The game has an expansion, or has not."""

    expansion: str
    there: bool


@dataclass(slots=True, eq=False)
class Supposed(Cause):
    """A release is supposed to be chosen, to see what would follow."""

    release: Release
