"""What a change works on."""

from __future__ import annotations

from typing import NamedTuple

from rellum.core.pack.disk import Disk
from rellum.core.pack.folder_rules import FolderRules
from rellum.core.pack.home import PackHome
from rellum.core.pack.originals import Originals
from rellum.core.pack.state import State
from rellum.core.progress import Listener, silent
from rellum.core.values.paths import PlacePath, Roots


class Site(NamedTuple):
    """A pack, its state, its game folder, the disk that both lie on, and who hears of progress.

    ``even_if_running``: the game may be in use. ``players_places`` are where the player's settings
    and saved games lie, as far as the sheet names such places; ``rules`` say what else is the player's own.
    """

    home: PackHome
    roots: Roots
    state: State
    disk: Disk
    listen: Listener = silent
    even_if_running: bool = False
    players_places: tuple[PlacePath, ...] = ()
    rules: FolderRules = FolderRules()

    @property
    def originals(self) -> Originals:
        """The store of originals of this pack."""
        return Originals(self.home.originals_folder, self.disk)
