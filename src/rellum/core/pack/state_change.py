"""What a finished change makes of the state."""

from __future__ import annotations

from typing import Any, NamedTuple

from rellum.core.pack.kept_copies import Kept
from rellum.core.values.content import Content, Laid
from rellum.core.values.paths import PlacePath

PackTexts = tuple[tuple[str, str], ...]
"""The texts of rellum.toml and rellum.lock by file name; one that is not named is not there."""


BaselineChange = tuple[str, "tuple[Any, ...] | None"]
"""A path and its new row of the table ``baseline``, or None where it is vanilla no longer."""


SettingRow = tuple[PlacePath, Content]


class Before(NamedTuple):
    """What a change's checkpoint notes: what stood at each path touched, and the settings.

    ``pack_texts`` are those that stand in the pack's folder; None where those that the folder was made
    by are meant.
    """

    files: tuple[tuple[PlacePath, Content | None], ...] = ()
    settings: tuple[SettingRow, ...] = ()
    pack_texts: PackTexts | None = None


class StateChange(NamedTuple):
    """What a finished change makes of the state.

    ``before`` is what a checkpoint must know of how it was; ``pack_texts`` are those that the folder is
    made by from now on. ``baseline`` and ``identity`` (JSON) only change where the game did.
    ``kept_gone`` are numbers of kept copies that leave the list; ``unsure`` are new files that may be the
    game's own; ``guarded`` are the files guarded from now on, with their modes of before (None: as it is).
    ``stands`` is what a change put where nothing is laid. ``is_found``: nothing became other, it was only
    found out how it is; there is nothing to go back over.
    """

    id: str
    action: str
    laid: tuple[Laid, ...]
    no_longer_laid: tuple[PlacePath, ...]
    kept: tuple[Kept, ...]
    new_folders: tuple[PlacePath, ...]
    gone_folders: tuple[PlacePath, ...]
    outside: tuple[tuple[str, str], ...] = ()
    returned: tuple[PlacePath, ...] = ()
    before: Before = Before()
    pack_texts: PackTexts | None = None
    baseline: tuple[BaselineChange, ...] = ()
    identity: str = ""
    kept_gone: tuple[int, ...] = ()
    unsure: tuple[PlacePath, ...] = ()
    guarded: tuple[tuple[PlacePath, int], ...] | None = None
    stands: tuple[tuple[PlacePath, Content], ...] = ()
    is_found: bool = False
