"""Commands that are called now and then, each held to what it says."""

from __future__ import annotations

import json
import os
import shutil
from abc import abstractmethod

from blake3 import blake3

from tests.truth.looks import Looks
from tests.truth.runner import Said
from tests.truth.world import Tree


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
        self.only_notes("trial", "works")

    def why(self) -> None:
        self.only_notes("why", self.dice.choice(sorted(self.world.mods)))

    def fetch(self) -> None:
        self.only_notes("fetch")

    def guard(self) -> None:
        """Guard files that the sheet does not name: that is refused, and off is off."""
        self.only_notes("guard", "on")
        self.only_notes("guard", "off")

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
        rows = json.loads(self.run("kept", "--json").out)["kept"]
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
        rows = json.loads(self.run("kept", "--json").out)["kept"]
        if not rows:
            return
        number = self.dice.choice(rows)["number"]
        before = self.disk()
        said = self.run("kept", "drop", str(number), "--yes")
        self.equal(said, before, self.disk(), "it only lets a copy go")
        left = {row["number"] for row in json.loads(self.run("kept", "--json").out)["kept"]}
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
