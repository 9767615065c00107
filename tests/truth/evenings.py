"""Evenings without mods, and saves brought back: what is the player's goes and comes as it was said."""

from __future__ import annotations

from abc import abstractmethod

from tests.support import read_document
from tests.truth.back import Back
from tests.truth.model import NOT_AS, State
from tests.truth.runner import Said
from tests.truth.world import Tree


class Evenings(Back):
    """Switches of variants, and backups."""

    def evening(self) -> None:
        """Play vanilla, and go back: mods come back as they were, and what was played stays or is kept."""
        self._tidy()
        disk = self.disk()
        if not self.is_certain or self.hidden or self.has_update(disk):
            return
        if self.foretold() not in (None, set()):
            return  # mods wait to be laid, and would be
        main = self.state
        own = {path for path in disk if self.is_own(path) and not self.is_setting(path)}
        said, before, after = self.changing("variant", "use", "vanilla", "--yes")
        if said.status:
            if said.status != 2 or not self.drift(before) or "as Rellum left it" not in said.err:
                self.untrue(said, "the mods are not taken out")
            return
        if self.drift(before):
            self.untrue(said, f"it passes over {self.drift(before)}")
        self._is_vanilla(said, before, after)
        merged = {path for path in main.laid if self.is_merged(path)}
        self.state = State(main.version, dict(main.baseline), dict(main.baseline))
        self.wants = set()
        self.done()
        known = set(self.then)
        is_whole = not NOT_AS.search(said.err)
        if is_whole and self.dice.random() < 0.6:
            self._play()
        played = self.disk()
        drift = ["--with-drift"] * bool(self.drift(played))
        back = ("variant", "use", "main", "--yes", *drift) if is_whole else ("rewind", "--yes")
        said, _, after = self.changing(*back)
        if said.status:
            self.untrue(said, "the mods do not come back")
        own |= {path for path in played if self.is_own(path) and not self.is_setting(path)}
        self.done()
        self.then |= dict.fromkeys(set(self.then) - known)  # rewinding there is another variant's
        self.state = main
        self.read_wants()
        for path in sorted({*before, *after}):
            wanted = played.get(path) if path in own and path not in merged else before.get(path)
            if after.get(path) != wanted:
                self.untrue(said, f"{path} is {after.get(path)!r:.60}, not {wanted!r:.60}")
        self.state.disk = after

    def _tidy(self) -> None:
        """Lay what waits, mend what differs and move out what is foreign, or some of it."""
        for do, sides in ((self.apply, 6), (self.restore_damaged, 4), (self.sweep, 4)):
            if self.dice.randrange(sides):
                do()

    def _is_vanilla(self, said: Said, before: Tree, after: Tree) -> None:
        """The game is vanilla: each file that is, and none of a mod."""
        named = {each["path"] for each in NOT_AS.finditer(said.err)}
        for path, content in self.state.baseline.items():
            is_the_users = self.is_own(path) or self.is_merged(path) or self.is_setting(path)
            lay_under = self.state.under.get(path, content)
            if after.get(path) not in (content, lay_under) and not is_the_users | (path in named):
                self.untrue(said, f"{path} is not vanilla")
        for path in self.state.laid:
            if path in self.state.baseline or self.is_own(path) or self.is_merged(path):
                continue
            if after.get(path) != self.state.under.get(path):
                self.untrue(said, f"{path} of a mod is there, or what lay under it is not")

    def _play(self) -> None:
        """Change settings and saves as a game would."""
        names = [place for place in ("saves", "settings") if self.world.is_outside(place)]
        paths = [f"@{place}/{name}" for place in names for name in ("1.sav", "s1.ini", "new.sav")]
        for path in (*paths, *(f"{own}o1" for own in self.world.own)):
            if self.dice.random() < 0.5:
                self.write(path, self.fresh())

    def backed_up(self) -> None:
        """Keep what is the player's, play on, and bring it back."""
        disk = self.disk()
        name = f"b{self.count}-{self.commands}"
        said = self.run("backup", "make", name)
        self.equal(said, disk, self.disk(), "it only copies")
        if said.status:
            self.untrue(said, "nothing is kept")
        self._play()
        exactly = self.dice.random() < 0.5
        listed = read_document(self.run("backup", "show", name, "--full", "--json").out)
        kept = {each["path"] for each in listed["files"]}
        said, before, after = self.changing(
            "backup", "back", name, "--yes", *(["--exactly"] * exactly)
        )
        if said.status:
            self.untrue(said, "the backup does not come back")
        for path in sorted({*before, *after}):
            wanted = disk.get(path) if path in kept else before.get(path)
            is_new = path not in kept and path not in disk
            if after.get(path) != wanted and not (exactly and is_new and path not in after):
                self.untrue(said, f"{path} is {after.get(path)!r:.60}, not {wanted!r:.60}")
            if exactly and is_new and path in after and path.startswith(("@saves/", "@settings/")):
                self.untrue(said, f"{path} came since, and is there")
        self.done()

    @abstractmethod
    def apply(self) -> None:
        """Lay what the pack asks for."""

    @abstractmethod
    def sweep(self) -> None:
        """Move foreign files out."""
