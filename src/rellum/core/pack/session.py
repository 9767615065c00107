"""A session: a pack that one process holds, opened once."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from rellum.core.pack.folder_rules import FolderRules
from rellum.core.pack.home import PackHome
from rellum.core.pack.pack_files import PackFiles
from rellum.core.pack.state import Adopted, State
from rellum.core.values.paths import Roots

if TYPE_CHECKING:
    from rellum.core.pack.disk import Disk
    from rellum.core.pack.site import Site


class Session(NamedTuple):
    """A pack that this process holds, with all that its commands need of it, read once.

    ``files`` are those that people write; ``rules`` say what sheet, pack and cards call the user's own;
    ``roots`` are all places that these name. ``even_if_running``: the game may be in use while it changes.
    """

    home: PackHome
    files: PackFiles
    adopted: Adopted
    state: State
    roots: Roots
    disk: Disk | None
    rules: FolderRules
    even_if_running: bool = False

    @property
    def site(self) -> Site:
        """What a change works on; imported only by those who change or restore something."""
        from rellum.core.pack.disk import Disk
        from rellum.core.pack.site import Site

        return Site(
            self.home,
            self.roots,
            self.state,
            self.disk or Disk(),
            even_if_running=self.even_if_running,
            players_places=self.rules.players_places,
            rules=self.rules,
        )

    def with_files_of(self, home: PackHome) -> Session:
        """Return the session with the files of a pack's folder to be read again: they were written since, or
        lie elsewhere.
        """
        return self._replace(home=home, files=PackFiles(home))
