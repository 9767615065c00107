"""Random commands, and what each of their answers claims, checked against the folders."""

from __future__ import annotations

import os
import tomllib

from tests.support import read_document
from tests.truth import kinds
from tests.truth.evenings import Evenings
from tests.truth.model import LEFT, NOT_AS
from tests.truth.runner import Said
from tests.truth.world import Mod, Tree


class Pack(Evenings):
    """A pack on which random commands are run."""

    def step(self) -> None:
        """Do one thing by hand, perhaps, and one by a command."""
        if self.dice.random() < 0.5:
            self.by_hand()
        doing = self.dice.choices(
            (
                self.check,
                self.want_or_drop,
                self.apply,
                self.restore_all,
                self.restore_some,
                self.restore_damaged,
                self.checkpoint,
                self.rewind,
                self.sweep,
                self.sweep_back,
                self.absorb,
                self.kept_back,
                self.look,
                self.identify,
                self.standing,
                self.trim,
                self.rarely,
                self.restore_mod,
                self.evening,
                self.backed_up,
            ),
            (14, 8, 16, 4, 6, 8, 6, 10, 5, 4, 3, 2, 5, 3, 6, 1, 6, 3, 5, 4),
        )[0]
        doing()

    # -- looking -----------------------------------------------------------------------------------

    def check(self) -> None:
        deep = self.dice.random() < 0.3
        disk = self.disk()
        said = self.run("check", "--json", *(("--deep",) if deep else ()))
        if said.status == 2:
            self.untrue(said, "check refuses")
        if not self.is_certain:
            return
        found: dict[str, str] = {}
        for each in read_document(said.out)["findings"]:
            found[each["path"]] = each["finding"]
        wanted = self.drift(disk)
        below = {
            path: "missing"
            for folder, kind in found.items()
            for path in self.state.expected
            if kind == "missing" and path.startswith(folder + "/")
        }
        folders = {
            path
            for path in found
            if os.path.isdir(self.world.file(path)) or path in self._folders()
        }
        told = {path: kind for path, kind in ({**below, **found}).items() if path not in folders}
        extra = {p for p in told if p.startswith("@") and told[p] == "foreign"}
        missed = {path for path in wanted if path not in told}
        missed -= set() if deep else self.hidden
        wrong = {path for path in told if path not in wanted} - extra
        if missed or wrong:
            self.untrue(said, f"check misses {sorted(missed)} and is wrong of {sorted(wrong)}")
        if (said.status == 0) != (not told and not folders & set(found)):
            self.untrue(said, "the exit status is not the answer")
        if deep:
            self.hidden = {
                p for p in self.hidden if p in told or self.is_merged(p) or self.is_own(p)
            }

    def _folders(self) -> set[str]:
        found = set()
        for path in {*self.state.expected, *self.state.baseline}:
            while "/" in path:
                path = path.rpartition("/")[0]
                found.add(path)
        return found

    # -- the pack ----------------------------------------------------------------------------------

    def want_or_drop(self) -> None:
        self.read_wants()
        mod = self.dice.choice(
            sorted(m for m in self.world.mods if not m.startswith("own") or m in self.wants)
        )
        words = ["drop" if mod in self.wants else "want", mod]
        if self.world.mods[mod].options and self.dice.random() < 0.5:
            words = ["want", mod, "--option", f"q={self.dice.choice(('low', 'high'))}"]
        said = self.run(*words)
        if said.status:
            self.untrue(said, "wants cannot be changed")
        self.read_wants()
        self.run("resolve")

    def line_up(self) -> list[tuple[Mod, str]]:
        """Return the mods of the line-up in load order, each with what is chosen of its option."""
        with open(self.world.path("pack", "rellum.lock"), "rb") as file:
            releases = tomllib.load(file).get("release", ())
        chosen = [(each["mod"], each.get("options", {}).get("q", [""])[0]) for each in releases]
        return [(self.world.mods[mod], choice) for mod, choice in chosen]

    def apply(self) -> None:
        words = ["apply", "--yes", *(["--take-update"] * (self.dice.random() < 0.1))]
        words += ["--sweep"] * (self.dice.random() < 0.1)
        foretold = self.foretold() if len(words) == 2 and self.dice.random() < 0.3 else None
        said, before, after = self.changing(*words)
        if foretold is not None:
            self.came_true(said, foretold, before, after)
        if said.status == 2 and ("no line-up" in said.err or "settings" in said.err):
            return
        if self.seen_at_last(said):
            return
        if said.status:
            if said.status == 3 or not self._may_refuse(said, before):
                self.untrue(said, "apply fails")
            return
        if "The pack is on game 1.1" in said.out:
            self._take_update(before)
        elif "The pack is on game" in said.out:
            self.is_certain = False  # what differed is vanilla now, by the user's word
        named = {each["path"] for rule in (LEFT, NOT_AS) for each in rule.finditer(said.text)}
        self._lay(before, after)
        wanted = {
            p: c
            for p, c in self.state.expected.items()
            if p in self.state.laid and not self.is_merged(p)
        }
        for path, content in wanted.items():
            if path not in named and after.get(path) != content and path not in self.hidden:
                self.untrue(said, f"laid wrong: {path}")
        self.came_back(said, before, after, named)
        if "Nothing to do" in said.out:
            self.equal(said, before, after, "nothing to do")
        self.done()

    def _may_refuse(self, said: Said, before: Tree) -> bool:
        """Whether a refusal is to be expected: half an update, or something made of a file that changed."""
        words = (
            "what differs is no update",
            "is for game =1.0",
            "are of 1.",
            "is not as it was adopted",
            "a folder now",
            "is a file",
            "the line-up is for",
        )
        if "is no container that can be changed" in said.err:
            return kinds.unpacked(before.get(kinds.CONTAINER, b"")) is None
        if "does not say whether that is intended" in said.err:
            with open(self.world.path("pack", "rellum.toml"), "rb") as file:
                return "nested" not in tomllib.load(file) and "wrap" in self.wants
        if "there is no file game.ini to edit" in said.err and "game.ini" not in before:
            return True
        return any(word in said.err for word in words)

    def _take_update(self, before: Tree) -> None:
        new = dict(self.world.versions["1.1"])
        if "1.1" not in self.world.known:
            self.is_certain = False
            new = {
                p: c
                for p, c in before.items()
                if not p.startswith("@") and (p in self.state.baseline or p in new)
            }
            for path in self.state.laid:
                if path in self.state.baseline:
                    new[path] = self.state.baseline[path]
        self.state.version, self.state.baseline = "1.1", new
        laid = {path: c for path, c in self.state.expected.items() if path in self.state.laid}
        self.state.expected = {**new, **laid}

    def _lay(self, before: Tree, after: Tree) -> None:
        """Work out what the wanted mods lay, and over what."""
        state = self.state
        laid: dict[str, str] = {}
        content: Tree = {}
        if graft := self.graft():
            slot = [path for path in state.baseline if path.startswith(kinds.SLOT)]
            laid |= dict.fromkeys((*slot, *graft.files), graft.id)
            content |= graft.files
        members: Tree = {}
        for mod, chosen in self.line_up():
            mod_id = mod.id
            for path, brought in mod.brings(chosen).items():
                laid[path], content[path] = mod_id, brought
            if mod.members:
                members |= mod.members
                laid[kinds.CONTAINER] = mod_id
            for path in mod.removed:
                laid[path] = mod_id
                content.pop(path, None)
            if mod.edits and mod.edits in after:
                was = state.expected.get(mod.edits)
                knows = mod.edits in self.hidden and state.laid.get(mod.edits) == mod_id and was
                laid[mod.edits], content[mod.edits] = (
                    mod_id,
                    was if knows and was else after[mod.edits],
                )
        if members and kinds.CONTAINER in after:
            content[kinds.CONTAINER] = self._rebuilt(members, before, after)
        for path in laid:
            if path not in state.laid:
                state.under[path] = before.get(path)
        self.gone = {
            path: state.under.pop(path)
            for path in set(state.laid) - set(laid)
            if path in state.under
        }
        self.merged = {path for path in state.laid if self.is_merged(path)}
        state.laid = laid
        state.expected = {p: c for p, c in state.baseline.items() if p not in laid} | content
        for path in laid:
            if self.is_merged(path) and path in after:
                state.expected[path] = after[path]

    def graft(self) -> Mod | None:
        """Return the pack's graft; a rewind may have taken its line out of rellum.toml."""
        with open(self.world.path("pack", "rellum.toml"), "rb") as file:
            return self.world.graft if "graft" in tomllib.load(file) else None

    def _rebuilt(self, members: Tree, before: Tree, after: Tree) -> bytes:
        """Return a container as it must be: with what mods put into it, whatever its bytes are."""
        found = after[kinds.CONTAINER]
        if kinds.CONTAINER in self.hidden and before.get(kinds.CONTAINER) == found:
            return self.state.expected.get(kinds.CONTAINER, b"")
        self.hidden.discard(kinds.CONTAINER)
        if not self.is_certain:
            return found
        wanted = {**(kinds.unpacked(self.state.baseline[kinds.CONTAINER]) or {}), **members}
        return found if kinds.unpacked(found) == wanted else b"not as it should be"

    # -- foreign files -----------------------------------------------------------------------------

    def sweep(self) -> None:
        disk = self.disk()
        drift = self.drift(disk)
        foreign = {path for path, kind in drift.items() if kind == "foreign"}
        said, before, after = self.changing("sweep", "--yes")
        if said.status == 2:
            self.untrue(said, "sweep refuses")
        gone = set(before) - set(after)
        allowed = foreign | {path for path in before if path.startswith("@")}
        if (self.is_certain and gone - allowed) or (set(after) - set(before)):
            self.untrue(said, f"sweep took {sorted(gone - foreign)}, or brought something")
        if any(self.is_own(path) for path in gone):
            self.untrue(said, "sweep took what is the user's own")
        stays = {
            line.split(" stays: ")[0].removeprefix("warning: ") for line in said.err.splitlines()
        }
        if self.is_certain and ("Moved out" in said.out or "nothing foreign" in said.out):
            left = {path for path in foreign - gone if path not in stays}
            if left:
                self.untrue(said, f"swept, but {sorted(left)} are there")
        if "Moved out" in said.out:
            self.swept.append({path: before[path] for path in gone})
        self.done()

    def sweep_back(self) -> None:
        said, before, after = self.changing("sweep", "--back", "last")
        if said.status == 2:
            if self.swept and "there is no sweep" in said.err:
                self.untrue(said, "a sweep is lost")
            return
        wanted = self.swept[-1] if self.swept else {}
        for path, content in wanted.items():
            if path not in before and after.get(path) != content and self.world.file(path):
                self.untrue(said, f"{path} did not come back")
        if said.status == 0:
            self.swept = self.swept[:-1]
        else:
            self.swept[-1] = {p: c for p, c in wanted.items() if p in before}
        self.done()

    def absorb(self) -> None:
        disk = self.disk()
        drift = {p: kind for p, kind in self.drift(disk).items() if p not in self.hidden}
        if not drift or self.hidden or self.has_update(disk) or len(self.world.mods) > 8:
            return
        self.count += 1
        name = f"own{self.count}"
        said, _, after = self.changing("absorb", "--as", name, "--yes")
        if said.status:
            return
        files = {path: disk[path] for path in drift if path in disk}
        gone = (path for path in drift if path not in disk and path not in self.state.laid)
        removed = tuple(path for path in gone if path in self.state.baseline)
        self.world.mods[name] = Mod(name, files, removed=removed)
        for path in (*files, *removed):
            if path not in self.state.laid:
                self.state.under[path] = self.state.baseline.get(path)
            self.state.laid[path] = name
            self.state.expected.pop(path, None)
        self.state.expected |= files
        self.equal(said, disk, after, "absorbed files stay where they stand")
        self.read_wants()
        self.done()

    def kept_back(self) -> None:
        said = self.run("kept", "--json")
        copies = [each for each in read_document(said.out)["kept"] if each["is_there"]]
        if not copies:
            return
        copy = self.dice.choice(copies)
        said, _, after = self.changing("kept", "back", str(copy["number"]))
        if said.status == 0 and copy["path"] not in after:
            self.untrue(said, f"{copy['path']} is not back")
        if (
            said.status == 0
            and copy["path"] in self.state.laid
            and not self.is_merged(copy["path"])
        ):
            self.untrue(said, "a mod's file was replaced")
        self.done()
