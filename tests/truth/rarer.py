"""Commands that are called now and then, each held to what it says."""

from __future__ import annotations

import os
import shutil
from abc import abstractmethod

from blake3 import blake3

from tests.support import read_document
from tests.truth import kinds
from tests.truth.looks import Looks
from tests.truth.runner import Said
from tests.truth.world import Mod, Tree


class Rarer(Looks):
    """Commands beside the daily ones."""

    def rarely(self) -> None:
        """Call one of them."""
        self.dice.choice(
            (
                self.hold,
                self.say_of_trials,
                self.why,
                self.absorb_begin,
                self.kept_out,
                self.kept_drop,
                self.forget_checkpoint,
                self.assemble,
                self.adopt_anew,
                self.conflict_of_names,
                self.fetch,
                self.guard,
                self.rebuild,
            )
        )()

    def only_notes(self, *words: str) -> None:
        """Run a command that writes into the pack, and must leave all folders of the game as they are."""
        before = self.disk()
        said = self.run(*words)
        self.equal(said, before, self.disk(), "it only writes down")
        if said.status not in (0, 1, 2):
            self.untrue(said, "it fails")

    def hold(self) -> None:
        mod = self.dice.choice(sorted(self.world.mods))
        self.only_notes("hold", mod, "1", "--reason", "because")
        self.only_notes("hold", mod, "--off")

    def say_of_trials(self) -> None:
        chosen = {mod.id for mod, _ in self.line_up()} if self.has_line_up() else set()
        if chosen and self.dice.random() < 0.5:
            self.only_notes("trial", "breaks", "--note", "sank")
            said = self.run("resolve")
            if said.status == 0 and chosen == self.wants and not self.has_update(self.disk()):
                self.untrue(said, "a line-up that broke is chosen again")
        self.only_notes("trial", "works")

    def rebuild(self) -> None:
        """Lose the state, and make it anew, from the line-up that lies in the game."""
        mods = set(self.state.laid.values()) - {kinds.GRAFT}
        lies = self.has_line_up() and mods == {mod.id for mod, _ in self.line_up()}
        if not lies or self.hidden or self.drift(self.disk()) or self.has_update(self.disk()):
            return
        os.unlink(self.world.path("pack", ".rellum", "state.db"))
        said, before, after = self.changing("adopt", "../game", "--rebuild")
        self.equal(said, before, after, "it is made anew from what lies there")
        if said.status:
            self.untrue(said, "the state is not made anew")
        self.then = {}
        for path, under in list(self.state.under.items()):
            if under != self.state.baseline.get(path):
                del self.state.under[path]  # what lay there of the user's is kept aside, and told
        self.done()

    def has_line_up(self) -> bool:
        """Whether a line-up was ever made."""
        return os.path.exists(self.world.path("pack", "rellum.lock"))

    def why(self) -> None:
        self.only_notes("why", self.dice.choice(sorted(self.world.mods)))

    def fetch(self) -> None:
        self.only_notes("fetch")

    def guard(self) -> None:
        """Guard the store's files, where the sheet names any that are there; and no longer."""
        file = self.world.path("game", kinds.STORE_FILE)
        before, is_there = self.disk(), os.path.isfile(file)
        names_it = kinds.STORE_FILE in self.world.versions["1.0"]
        was = os.stat(file).st_mode if is_there else 0
        said = self.run("guard", "on")
        if (said.status == 0) != (is_there and names_it):
            self.untrue(said, "guard does not do what it can")
        if said.status == 0 and os.stat(file).st_mode & 0o222:
            self.untrue(said, "a guarded file can be written to")
        if self.dice.random() < 0.3:
            self.run("check")
        said = self.run("guard", "off")
        if is_there and os.stat(file).st_mode != was:
            self.untrue(said, "the guard is off, and the file's mode is another")
        self.equal(said, before, self.disk(), "it only changes modes")

    def absorb_begin(self) -> None:
        self.only_notes("absorb", "--begin")

    def conflict_of_names(self) -> None:
        self.changing("checkpoint", "same", "--json")
        said = self.run("checkpoint", "same")
        if [each["name"] for each in self.checkpoints()].count("same") != 1:
            self.untrue(said, "a name is not given once")
        self.only_notes("checkpoint", "--forget", "same")
        if "same" in self.names():
            self.untrue(said, "a name that was taken off is there")
        self.done()

    def names(self) -> set[str]:
        """Return the names of all checkpoints."""
        return {each["name"] for each in self.checkpoints() if each["name"]}

    def forget_checkpoint(self) -> None:
        named = sorted(self.names())
        if named:
            name = self.dice.choice(named)
            self.only_notes("checkpoint", "--forget", name)
            if name in self.names():
                self.untrue(self.run("checkpoint", "--list"), f"{name} is still there")

    def kept_out(self) -> None:
        """Write a kept copy somewhere: it has the content that the list says."""
        rows = read_document(self.run("kept", "--json").out)["kept"]
        if not rows:
            return
        row = self.dice.choice(rows)
        folder = self.world.path("out")
        shutil.rmtree(folder, ignore_errors=True)
        before = self.disk()
        said = self.run("kept", "out", str(row["number"]), "--to", folder)
        self.equal(said, before, self.disk(), "it only copies")
        found = {blake3(content).hexdigest() for content in read_all(folder).values()}
        if said.status == 0 and found != {row["blake3"]}:
            self.untrue(said, "what was written is not the kept copy")

    def kept_drop(self) -> None:
        rows = read_document(self.run("kept", "--json").out)["kept"]
        if not rows:
            return
        number = self.dice.choice(rows)["number"]
        before = self.disk()
        said = self.run("kept", "drop", str(number), "--yes")
        self.equal(said, before, self.disk(), "it only lets a copy go")
        left = {row["number"] for row in read_document(self.run("kept", "--json").out)["kept"]}
        if (said.status == 0) != (number not in left):
            self.untrue(said, "the list does not say what was done")

    def assemble(self) -> None:
        """Build a clean game from a clean copy: it is whole, to the byte."""
        self.copy_words()
        clean = self.world.path("clean", "1.0")
        if not os.path.isdir(clean):
            return
        whole = self.world.path("whole")
        shutil.rmtree(whole, ignore_errors=True)
        before = self.disk()
        said = self.run("assemble", whole, clean)
        self.equal(said, before, self.disk(), "it builds elsewhere")
        if said.status == 0 and read_all(whole) != self.world.versions["1.0"]:
            self.untrue(said, "the game that was built is not as it is known")

    def adopt_anew(self) -> None:
        """Look at the game once more; what is known of its version is vanilla, whatever lies there."""
        said, before, after = self.changing("adopt", "../game", "--anew")
        self.equal(said, before, after, "adopting changes no file")
        if said.status == 0:
            if self.state.laid:
                self.untrue(said, "it adopts anew what a mod has laid")
            version = "1.1" if " 1.1" in said.out.splitlines()[0] else "1.0"
            self.is_certain = self.is_certain and version in self.world.known
            self.state.version = version
            self.state.baseline = dict(self.world.versions[version])
            self.state.expected = dict(self.state.baseline)
            self.done()

    @abstractmethod
    def line_up(self) -> list[tuple[Mod, str]]:
        """Return the mods of the line-up in load order, each with what is chosen of its option."""

    @abstractmethod
    def copy_words(self) -> list[str]:
        """Name a clean copy of the game as it was, sometimes; it lies there from then on."""

    @abstractmethod
    def changing(self, *words: str) -> tuple[Said, Tree, Tree]:
        """Run a command that may change the game; return what was there before and after."""

    @abstractmethod
    def done(self) -> None:
        """Note what a command that changed something left behind."""


def read_all(folder: str) -> Tree:
    """Return every file of a folder, by its path in it."""
    found: Tree = {}
    for above, _, names in os.walk(folder):
        for name in names:
            path = os.path.join(above, name)
            with open(path, "rb") as file:
                found[os.path.relpath(path, folder).replace(os.sep, "/")] = file.read()
    return found
