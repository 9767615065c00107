"""The contents of a catalog, as plain immutable values.

``key`` fields (``("release", 1, "needs", "keelson")``) are the way back to the line of the TOML
file on which a statement stands; ``rellum.core.catalog.toml_lines`` finds that line when a message
needs it, so that reading a catalog does not pay for it.

The smallest values are named tuples, as a catalog has hundreds of thousands: they are made in
a third of the time that a frozen dataclass takes.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal, NamedTuple

from rellum.core.catalog.play_rules import NO_LOG, BreaksSaves, LogRules, PlayRule
from rellum.core.catalog.press_rules import PLAIN, PressRules
from rellum.core.catalog.release_rules import (
    FileEdit,
    KeyPath,
    PlaceRule,
    ReleaseFile,
    SettingsUpdate,
    Source,
)
from rellum.core.globs import literal
from rellum.core.values.ids import ModId, SheetId
from rellum.core.values.path_rules import EXACT, PathRules
from rellum.core.values.paths import PlacePath, shown_file
from rellum.core.versions.orderings import DOTTED, Ordering
from rellum.core.versions.ranges import Range, parse_range
from rellum.core.versions.version import Version

if TYPE_CHECKING:
    from rellum.core.catalog.known import KnownBaseline
    from rellum.core.catalog.self_descriptions import SelfDescription

Kind = Literal["mod", "library", "loader", "resource-pack"]
KINDS: tuple[Kind, ...] = ("mod", "library", "loader", "resource-pack")


class Requirement(NamedTuple):
    """A mod and the versions of it that are meant.

    ``range`` is as the card has it: the mod that it speaks of says how its versions compare
    (``Catalog.range_of``), and a card is read without asking the others.
    """

    mod: ModId
    range: str

    def __str__(self) -> str:
        return self.mod if self.range == "*" else f"{self.mod} {self.range}"


class Need(NamedTuple):
    """What a release needs: any one of these is enough.

    ``listed`` is its place in the card's ``needs-one-of``, None where it stands under ``needs``.
    """

    any_of: tuple[Requirement, ...]
    listed: int | None = None

    @property
    def key(self) -> KeyPath:
        """The keys that lead to it from the release."""
        if self.listed is None:
            return ("needs", self.any_of[0].mod)
        return ("needs-one-of", self.listed)

    def __str__(self) -> str:
        return " or ".join(map(str, self.any_of))


class Clash(NamedTuple):
    """What a release cannot go together with, and why where the card says so.

    It reaches what stands in for the other mod, too, unless ``spares_stand_ins``.
    """

    other: Requirement
    reason: str = ""
    spares_stand_ins: bool = False

    @property
    def key(self) -> KeyPath:
        """The keys that lead to it from the release."""
        return ("clashes", self.other.mod)


class Offer(NamedTuple):
    """A release does what a version of another mod does: it can stand in for it."""

    mod: ModId
    version: Version


class MadeFor(NamedTuple):
    """A release goes only on some variants of another mod: builds of it, or options as ``group.choice``."""

    mod: ModId
    variants: tuple[str, ...]

    @property
    def key(self) -> KeyPath:
        """The keys that lead to it from the release."""
        return ("made-for", self.mod)


@dataclass(frozen=True, slots=True, kw_only=True)
class Whole:
    """A release in full, beside the patch that gives the same."""

    files: tuple[ReleaseFile, ...]
    places: tuple[PlaceRule, ...]
    edits: tuple[FileEdit, ...]
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class Release:
    """One version of a mod, or one build of it: the files for some game versions or loaders.

    ``game``, ``editions`` None and empty tuples mean: no condition. ``build`` is empty where the
    version has only one. ``withdrawn`` is the reason, empty where the release stands.
    ``check_by_hand`` are conditions outside Rellum's reach, in the card's words.

    Patterns over place paths: ``carry`` are the user's own files, ``settings`` says how files that the
    user changes are brought up to date, ``removes`` are files that go, ``obsolete`` what older
    releases, laid by hand, may have left.

    ``full`` is how a patch can be had whole, instead of over what it patches. ``open_lines`` are lines of the
    card that a person must still decide: until then, the release is not taken, chosen or laid. ``plays`` are
    programs that it brings to start the game with; ``breaks_saves`` says which saves it does not open;
    ``was`` names paths of the player's files with what older releases called them.
    """

    mod: ModId
    version: Version
    build: str = ""
    game: str | None = None
    editions: tuple[str, ...] | None = None
    expansions_needed: tuple[str, ...] = ()
    expansions_forbidden: tuple[str, ...] = ()
    expansions_used: tuple[str, ...] = ()
    needs: tuple[Need, ...] = ()
    clashes: tuple[Clash, ...] = ()
    offers: tuple[Offer, ...] = ()
    made_for: tuple[MadeFor, ...] = ()
    check_by_hand: tuple[str, ...] = ()
    withdrawn: str = ""
    load_after: tuple[ModId, ...] = ()
    load_before: tuple[ModId, ...] = ()
    load_end: Literal["", "first", "last"] = ""
    carry: tuple[str, ...] = ()
    settings: tuple[tuple[str, SettingsUpdate], ...] = ()
    removes: tuple[str, ...] = ()
    obsolete: tuple[str, ...] = ()
    files: tuple[ReleaseFile, ...] = ()
    places: tuple[PlaceRule, ...] = ()
    edits: tuple[FileEdit, ...] = ()
    patches: Version | None = None
    full: Whole | None = None
    open_lines: tuple[int, ...] = ()
    plays: tuple[PlayRule, ...] = ()
    breaks_saves: BreaksSaves | None = None
    was: tuple[tuple[PlacePath, PlacePath], ...] = ()
    source: Source

    @property
    def all_files(self) -> tuple[ReleaseFile, ...]:
        """Every file that brings it, in one way or another."""
        return self.files + self.full.files if self.full else self.files

    @property
    def name(self) -> str:
        """What messages call it: ``tidal-currents 3.2 (harbour)``."""
        return f"{self.mod} {self.label}"

    @property
    def label(self) -> str:
        """Its version, with its build where it has one: ``3.2 (harbour)``."""
        return f"{self.version.text} ({self.build})" if self.build else self.version.text

    @property
    def first_open(self) -> str:
        """The first line that is still to be decided, as ``file:line``."""
        return f"{shown_file(self.source.file)}:{self.open_lines[0]}"


@dataclass(frozen=True, slots=True, kw_only=True)
class OptionChoice:
    """One choice of an option group. ``releases`` and ``game``: with which it can be chosen.

    The expansions are those that it needs, and those that it cannot go with.
    """

    id: str
    releases: str
    game: str | None
    needs: tuple[Need, ...]
    clashes: tuple[Clash, ...]
    source: Source
    expansions_needed: tuple[str, ...] = ()
    expansions_forbidden: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class OptionGroup:
    """What can be chosen of a mod: one of the choices, or any of them; ``default`` unless asked."""

    id: str
    pick: Literal["one", "any"]
    default: tuple[str, ...]
    choices: tuple[OptionChoice, ...]
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class NewsSource:
    """A page or a feed that tells a mod's versions.

    url: what is looked at
    page: where a person gets the mod
    form: text (a page), json, or xml (feeds such as Atom, RFC 4287)
    keys: lead to the versions in json and xml; a list on the way stands for each of its items
    pattern: finds ``version`` in a text; in json and xml what of a value counts
    """

    url: str
    page: str
    form: str = "text"
    keys: tuple[str, ...] = ()
    pattern: str = ""


class NamedReleases(Sequence[Release]):
    """Releases of which some can be told by their names without reading the others."""

    __slots__ = ()

    @abstractmethod
    def named(self, text: str, build: str) -> Release | None:
        """Return the release whose version and build are written just so."""

    @abstractmethod
    def of_versions(self, texts: Container[str]) -> list[Release]:
        """Return the releases whose versions are written so."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Mod:
    """One card: a mod and its releases, newest first; builds of one version in the card's order.

    ``own_id`` is what the mod calls itself, where that is no id of ours; ``news`` where it is published.
    """

    id: ModId
    name: str
    kind: Kind
    licence: str
    ordering: Ordering
    releases: Sequence[Release]
    options: tuple[OptionGroup, ...] = ()
    source: Source
    own_id: str = ""
    news: NewsSource | None = None

    def release(self, version: Version) -> Release | None:
        """Return the release of that version, if the card has it; its first build."""
        return next((each for each in self.releases if each.version == version), None)

    def release_of_build(self, version: Version, build: str) -> Release | None:
        """Return a version's build of that name; its only or first one where there is none."""
        found = [each for each in self.releases if each.version == version]
        return next((each for each in found if each.build == build), found[0] if found else None)

    def release_named(self, text: str, build: str = "") -> Release | None:
        """Return the release whose version and build are written just so, as a lock has them."""
        if isinstance(self.releases, NamedReleases):
            return self.releases.named(text, build)
        return next(
            (each for each in self.releases if each.version.text == text and each.build == build),
            None,
        )

    def releases_of(self, texts: Container[str]) -> list[Release]:
        """Return the releases whose versions are written so, with all their builds."""
        if isinstance(self.releases, NamedReleases):
            return self.releases.of_versions(texts)
        return [each for each in self.releases if each.version.text in texts]


@dataclass(frozen=True, slots=True, kw_only=True)
class Trial:
    """A recorded outcome of releases together on a game version. ``date`` is ISO 8601.

    ``grafts`` were in the game as well, and may be the reason.
    """

    outcome: Literal["works", "breaks"]
    game: Version
    date: str
    releases: tuple[tuple[ModId, str], ...]
    note: str
    source: Source
    grafts: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{self.outcome} on game {self.game}, tried {self.date}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """A test on one file of a game folder: it is there, its text matches, or its hash is this."""

    file: PlacePath
    pattern: str | None
    blake3: str | None
    sha256: str | None
    answer: str
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class NameRule:
    """A name that follows a vanilla file: the one that fits ``pattern``, with or without its ending."""

    pattern: str
    with_ending: bool
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class ContainerRule:
    """Containers by ``pattern``, and patterns of members that go from one that is changed."""

    pattern: str
    drops: tuple[str, ...]


LoadOrderForm = Literal["lines", "json", "ini"]


@dataclass(frozen=True, slots=True, kw_only=True)
class LoadOrderFile:
    """The game's own load-order file.

    Its entries are the names of what fits ``entries`` (files or folders that mods lay). ``key`` is
    where they stand: the keys to a JSON list, or the section of an INI file, in which each is a key
    with the value ``value``. ``profiles``: the folder in which each profile of the game has a folder with
    such a file; the path is then in one of them.
    """

    path: PlacePath
    form: LoadOrderForm
    entries: str
    key: tuple[str, ...]
    value: str
    source: Source
    profiles: PlacePath | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class GameSheet:
    """How to know a game, and what is where in it.

    The first of ``version_rules`` that holds tells the version: its ``answer``, or the group named
    ``version`` of its pattern. The same for editions. Each expansion whose rule holds is there.
    ``known_versions`` are those that the sheet tells of, oldest first.

    ``outside`` are the places outside the game folder: a folder by operating system, in which the
    user's own folders stand as ``{documents}``. ``path_rules`` tell how its paths compare. ``names``
    are names that must follow a file of the game. ``carry`` and ``settings`` are as in a release.
    ``baselines`` are vanilla versions whose files are known; ``store_files`` are patterns
    of the files by which the game's store updates it, ``rewrites`` of mods' files that the game changes.
    ``self_descriptions`` tell how mods describe themselves. ``saves_per_variant``: each variant of a pack
    has saves of its own. ``play`` is how it is started, ``log`` how its log is read, ``press`` how archives
    of its mods are made.
    """

    id: SheetId
    name: str
    marks: tuple[PlacePath, ...]
    version_rules: tuple[Rule, ...]
    edition_rules: tuple[Rule, ...]
    expansion_rules: tuple[Rule, ...]
    known_versions: tuple[Version, ...]
    places: Mapping[str, PlacePath] = field(hash=False)
    own_files: tuple[str, ...]
    exact_keys: tuple[str, ...] = ()
    source: Source
    outside: Mapping[str, Mapping[str, str]] = field(hash=False, default_factory=dict)
    path_rules: PathRules = EXACT
    names: Mapping[str, NameRule] = field(hash=False, default_factory=dict)
    carry: tuple[str, ...] = ()
    settings: tuple[tuple[str, SettingsUpdate], ...] = ()
    containers: tuple[ContainerRule, ...] = ()
    load_order: LoadOrderFile | None = None
    baselines: tuple[KnownBaseline, ...] = ()
    store_files: tuple[str, ...] = ()
    rewrites: tuple[str, ...] = ()
    self_descriptions: tuple[SelfDescription, ...] = ()
    saves_per_variant: bool = False
    play: PlayRule | None = None
    log: LogRules = NO_LOG
    press: PressRules = PLAIN

    @property
    def players_own(self) -> tuple[str, ...]:
        """Patterns of what the sheet calls the player's: what is carried, and the place of saved games."""
        saves = self.places.get("saves")
        return (*self.carry, *([f"{literal(saves)}/**"] if saves else []))


@dataclass(frozen=True, slots=True, kw_only=True)
class Catalog:
    """All game sheets, cards and trials of the catalog folders that a pack names.

    ``offered`` names, for each mod that others stand in for, the mods with such releases. ``faulty`` are the
    cards that have mistakes and were left out: the mistakes, a line each, by the id of the mod.
    """

    folders: tuple[str, ...]
    sheet: GameSheet
    mods: Mapping[ModId, Mod] = field(hash=False)
    orderings: Mapping[str, Ordering] = field(hash=False)
    offered: Mapping[ModId, tuple[ModId, ...]] = field(hash=False)
    trials: tuple[Trial, ...]
    faulty: Mapping[ModId, tuple[str, ...]] = field(hash=False, default_factory=dict)

    def ordering(self, mod: str) -> Ordering:
        """Return how a mod's versions compare; ``dotted`` where no card is for it."""
        return self.orderings.get(mod, DOTTED)

    def range_of(self, requirement: Requirement) -> Range:
        """Return the versions that a requirement means, by the ordering of its mod."""
        return parse_range(requirement.range, self.ordering(requirement.mod))
