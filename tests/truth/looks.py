"""What commands say that only look: nothing changes by them, and what they foretell comes true."""

from __future__ import annotations

import os

from tests.support import read_document
from tests.truth.model import Model
from tests.truth.runner import Said
from tests.truth.world import Tree

LOOKS = (
    ("preview",),
    ("conflicts",),
    ("status",),
    ("list", "--catalog"),
    ("compare", "main", "vanilla"),
    ("decide",),
    ("graft",),
    ("identify", "../game"),
    ("news",),
    ("outlook",),
    ("vet",),
    ("shelf",),
    ("shelf", "check"),
    ("kept",),
    ("checkpoint", "--list"),
    ("sweep", "--list"),
    ("describe", "../downloads/mod0.zip"),
)


class Looks(Model):
    """Commands that look, held to the folder."""

    def look(self) -> None:
        """Run a command that must change nothing, and that always has an answer."""
        before = self.disk()
        said = self.run(*self.dice.choice(LOOKS))
        self.equal(said, before, self.disk(), "it only looks")
        if said.status not in (0, 1, 2):
            self.untrue(said, "a look fails")

    def standing(self) -> None:
        """``status`` and ``list`` say what ``check`` finds, and what lies in the game."""
        before = self.disk()
        checked = self.run("check", "--json")
        said = self.run("status", "--json")
        self.equal(said, before, self.disk(), "it only looks")
        if said.status or checked.status == 2:
            return
        told = read_document(said.out)
        if told["drift_count"] != len(read_document(checked.out)["findings"]):
            self.untrue(said, "status and check do not find the same")
        laid = {each["mod"] for each in told["mods"] if each["laid"]}
        if self.is_certain and laid != set(self.state.laid.values()):
            self.untrue(said, f"{sorted(laid ^ set(self.state.laid.values()))} are not as laid")
        listed = self.run("list", "--json")
        if {one["mod"] for one in read_document(listed.out)["mods"] if one["release"]} != laid:
            self.untrue(listed, "list and status do not have the same mods")
        if (told["next"] or {}).get("command") == "rellum fetch" and not told["missing"]:
            self.untrue(said, "nothing is missing")

    def identify(self) -> None:
        """Compare every answer of ``identify`` with the files that are known."""
        disk = self.disk()
        said = self.run("identify", "../game", "--json")
        if said.status == 2:
            return
        here = {path for path in disk if not path.startswith("@")}
        for known in read_document(said.out)["baselines"]:
            wanted = self.world.versions[known["version"]]
            same = {path for path in wanted if disk.get(path) == wanted[path]}
            differ = {path for path in wanted if path in here} - same
            missing = {path for path in wanted if path not in here}
            beside = {path for path in here - wanted.keys() if not self.is_games_own(path)}
            told = (known["matching_count"], set(known["differing"]), set(known["missing"]))
            if told != (len(same), differ, missing):
                self.untrue(said, f"identify is wrong of {known['version']}: {differ} {missing}")
            if not set(known["beside"]) <= beside:
                self.untrue(said, f"{set(known['beside']) - beside} are not beside")

    def is_games_own(self, path: str) -> bool:
        """Whether a path is the marker, or lies where the sheet says that the game writes."""
        return path.startswith(".rellum") or os.path.isdir(self.world.file(path))

    def foretold(self) -> set[str] | None:
        """Return the paths that ``preview`` says will change; None where it refuses."""
        before = self.disk()
        said = self.run("preview", "--json")
        self.equal(said, before, self.disk(), "it only looks")
        if said.status:
            return None
        return {each["path"] for each in read_document(said.out)["operations"]}

    def came_true(self, said: Said, foretold: set[str], before: Tree, after: Tree) -> None:
        """What changed is what was foretold."""
        changed = {path for path in {*before, *after} if before.get(path) != after.get(path)}
        changed = {path for path in changed if not os.path.isdir(self.world.file(path))}
        if said.status == 0 and changed - foretold:
            self.untrue(said, f"preview did not tell of {sorted(changed - foretold)}")

    def trim(self) -> None:
        """Free the shelf: all that the line-up needs stays; then take all again."""
        before = self.disk()
        said = self.run("shelf", "trim", "--yes")
        self.equal(said, before, self.disk(), "it frees the shelf only")
        if self.run("preview").err.count("lacks an archive"):
            self.untrue(said, "trim took what the line-up needs")
        self.run("take", "../downloads", "--each")
