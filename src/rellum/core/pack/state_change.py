"""What a finished change makes of the state."""

from __future__ import annotations

from typing import NamedTuple

from rellum.core.pack.checkpoints import (
    BaselineChange,
    Before,
    PackTexts,
)
from rellum.core.pack.kept_copies import Kept
from rellum.core.values.content import Content, Laid
from rellum.core.values.paths import PlacePath


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
