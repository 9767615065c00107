"""What sheet, pack and cards say of the folders, remembered: what keeps vanilla safe needs no catalog.

The rules are read again when one of their files has changed, and stay as they were last
known where such a file cannot be read (``rellum.core.pack.reread_rules``).
"""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from typing import TYPE_CHECKING, NamedTuple

from rellum.core.globs import literal
from rellum.core.values.path_rules import EXACT, PathRules
from rellum.core.values.paths import PlacePath, is_in_game, parents

if TYPE_CHECKING:
    from rellum.core.patching.model import SettingsForm

NOTE = "rules"
"""Under this name the state remembers the rules."""

LAID_SINCE = "laid-since"
"""The note that something was laid, or went, since the rules of the folders were read."""

FORMAT = 5

FileStamp = tuple[str, int, int]
"""A file, its size in bytes (-1 where it is not there) and its time in ns."""


class ModRules(NamedTuple):
    """What the cards say of a mod's releases that are in the game or in the line-up. All are patterns."""

    carry: tuple[str, ...] = ()
    obsolete: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()


class FolderRules(NamedTuple):
    """What the sheet, rellum.toml and the cards say of files that mods do not lay.

    outside: the folder of each place outside the game, by root (``@settings``)
    places: where each place lies, by its name without ``@``
    own_files: patterns of what the game writes itself
    carry, settings: patterns of the user's own files, and of those that the user and releases both change
    mods: what the cards say, by mod
    surroundings: what the user's own folders were told from
    stamps: the files that all this was read from
    starts: the sheet says how the game is started
    catalogs: the folders of the catalogs that the cards are in
    unfit: releases of the line-up that their cards say are not for this game any more, with what they say
    exact_keys: patterns of INI files in which ``Waves`` and ``waves`` are two keys
    """

    outside: Mapping[str, str] = {}
    places: Mapping[str, PlacePath] = {}
    own_files: tuple[str, ...] = ()
    carry: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    path_rules: PathRules = EXACT
    mods: Mapping[str, ModRules] = {}
    surroundings: str = ""
    stamps: tuple[FileStamp, ...] = ()
    starts: bool = False
    catalogs: tuple[str, ...] = ()
    unfit: tuple[tuple[str, str], ...] = ()
    exact_keys: tuple[str, ...] = ()

    def settings_form(self, path: PlacePath) -> SettingsForm | None:
        """Return the form of a settings file, by its ending and what the sheet says of its keys."""
        from rellum.core.patching.keys import form_by_name

        form = form_by_name(path)
        is_exact = form == "ini" and self.path_rules.test(self.exact_keys)(path)
        return "ini-exact" if is_exact else form

    @property
    def carried(self) -> tuple[str, ...]:
        """Every pattern of the user's own files; the place of saved games is one."""
        saves = self.places.get("saves")
        own = (f"{literal(saves)}/**",) if saves else ()
        return (*own, *self.carry, *(each for mod in self.mods.values() for each in mod.carry))

    @property
    def players_places(self) -> tuple[PlacePath, ...]:
        """Where the player's settings and saved games lie."""
        return tuple(self.places[name] for name in ("settings", "saves") if name in self.places)

    @property
    def settings_patterns(self) -> tuple[str, ...]:
        """Every pattern of files that the user and releases both change."""
        return (*self.settings, *(each for mod in self.mods.values() for each in mod.settings))

    @property
    def obsolete(self) -> tuple[str, ...]:
        """Every pattern of what older releases may have left."""
        return tuple(each for mod in self.mods.values() for each in mod.obsolete)

    @property
    def shared(self) -> frozenset[PlacePath]:
        """The places in the game folder: folders that mods share."""
        return frozenset(place for place in self.places.values() if is_in_game(place))

    def is_shared(self, path: PlacePath) -> bool:
        """Whether a path lies in a place of the game folder."""
        return bool(self.shared.intersection(parents(path)))

    @property
    def files(self) -> dict[str, FileStamp]:
        """The files that the rules come from, in their order."""
        return {stamp[0]: stamp for stamp in self.stamps}

    def are_current(self, *, but_for: str = "") -> bool:
        """Whether the files that the rules come from are as they were when they were read.

        ``but_for`` is one that may have changed.
        """
        return (
            bool(self.stamps)
            and self.surroundings == surroundings()
            and all(stamp_of(each[0]) == each for each in self.stamps if each[0] != but_for)
        )


_VARIABLES = (
    "HOME",
    "USERPROFILE",
    "APPDATA",
    "LOCALAPPDATA",
    "XDG_CONFIG_HOME",
    "XDG_DATA_HOME",
    "XDG_DOCUMENTS_DIR",
    "RELLUM_CATALOG",
)


def surroundings() -> str:
    """Return the variables that say where the user's own folders are."""
    return "\n".join(os.environ.get(name, "") for name in _VARIABLES)


def stamp_of(file: str) -> FileStamp:
    """Return what tells whether a file has changed."""
    try:
        status = os.stat(file)
    except OSError:
        return (file, -1, 0)
    return (file, status.st_size, status.st_mtime_ns)


def rules_text(rules: FolderRules) -> str:
    """Return rules as the state remembers them."""
    return json.dumps([FORMAT, *rules])


def read_rules(text: str) -> FolderRules:
    """Read remembered rules; none where there are none that this Rellum reads."""
    if not text:
        return FolderRules()
    version, *fields = json.loads(text)
    if version != FORMAT:
        return FolderRules()
    (
        outside,
        places,
        own_files,
        carry,
        settings,
        path_rules,
        mods,
        around,
        stamps,
        starts,
        catalogs,
        unfit,
        exact_keys,
    ) = fields
    return FolderRules(
        outside=outside,
        places=places,
        own_files=tuple(own_files),
        carry=tuple(carry),
        settings=tuple(settings),
        path_rules=PathRules(*path_rules),
        mods={mod: ModRules(*map(tuple, said)) for mod, said in mods.items()},
        surroundings=around,
        stamps=tuple((file, size, mtime_ns) for file, size, mtime_ns in stamps),
        starts=starts,
        catalogs=tuple(catalogs),
        unfit=tuple((release, said) for release, said in unfit),
        exact_keys=tuple(exact_keys),
    )
