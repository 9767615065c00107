"""Random commands, and what each of their answers claims, checked against the folders."""

from __future__ import annotations

import json
import os
import re
import tomllib

from tests.truth.model import LEFT, NOT_AS, State
from tests.truth.rarer import Rarer
from tests.truth.runner import Said
from tests.truth.world import Mod, Tree


class Pack(Rarer):
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
                self.trim,
                self.rarely,
                self.restore_mod,
            ),
            (14, 8, 16, 4, 6, 8, 6, 10, 5, 4, 3, 2, 5, 3, 1, 6, 3),
        )[0]
        doing()

    def changing(self, *words: str) -> tuple[Said, Tree, Tree]:
        """Run a command that may change the game; return what was there before and after."""
        before = self.disk()
        self.state.disk = before
        self.before = self.state.copy(before)
        return self.run(*words), before, self.disk()

    def done(self) -> None:
        """Note what a command that changed something left behind."""
        self.state.disk = self.disk()
        self.note_checkpoints(self.before, self.state)

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
        for each in json.loads(said.out)["findings"]:
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
        said = self.run("drop" if mod in self.wants else "want", mod)
        if said.status:
            self.untrue(said, "wants cannot be changed")
        self.read_wants()
        self.run("resolve")

    def read_wants(self) -> None:
        with open(self.world.path("pack", "rellum.toml"), "rb") as file:
            self.wants = set(tomllib.load(file).get("want", {}))

    def line_up(self) -> list[str]:
        """Return the mods of the line-up, in load order."""
        with open(self.world.path("pack", "rellum.lock"), "rb") as file:
            return [each["mod"] for each in tomllib.load(file).get("release", ())]

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

    def seen_at_last(self, said: Said) -> bool:
        """Whether a command met a file that had been changed behind its size and time, and said so."""
        found = re.search(
            r"taken back: (\S+) was changed, though its size and time were not", said.err
        )
        if found is None:
            return False
        if found[1] not in self.hidden:
            self.untrue(said, f"{found[1]} was not changed")
        return True

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
        for mod_id in self.line_up():
            mod = self.world.mods[mod_id]
            for path, brought in mod.files.items():
                laid[path], content[path] = mod_id, brought
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

    def came_back(self, said: Said, before: Tree, after: Tree, named: set[str]) -> None:
        """Where a mod went, what lay under it is back."""
        for path, under in self.gone.items():
            is_the_users = self.is_own(path) or path in self.merged or path in named
            if is_the_users or not self.is_certain:
                continue
            vanilla = self.state.baseline.get(path)
            if after.get(path) not in (under, vanilla):
                self.untrue(said, f"{path} is not what lay under the mod")
        self.gone = {}

    # -- back to vanilla ---------------------------------------------------------------------------

    def restore_all(self) -> None:
        words = ["restore", "--all", "--yes", *self.copy_words()]
        said, _, after = self.changing(*words)
        if said.status == 2:
            self.untrue(said, "restore --all refuses")
        if said.status == 3 and self.seen_at_last(said):
            return
        named = {each["path"] for each in NOT_AS.finditer(said.err)} | self.listed(said.out)
        if "as it was adopted" in said.out and self.is_certain:
            for path, content in self.state.baseline.items():
                if path not in named and after.get(path) != content and path not in self.hidden:
                    self.untrue(said, f"'as it was adopted', but {path} is not")
            for path in self.state.laid:
                mod = self.world.mods.get(self.state.laid[path])
                brought = mod.files.get(path) if mod else None
                if (
                    path not in self.state.baseline
                    and brought
                    and after.get(path) == brought != self.state.under.get(path)
                ):
                    self.untrue(said, f"'as it was adopted', but {path} of a mod is there")
            foreign = {p for p in after if not p.startswith("@") and p not in self.state.baseline}
            if foreign - named:
                self.untrue(
                    said, f"'as it was adopted', but {sorted(foreign - named)} are there, unnamed"
                )
        if said.status == 0:
            self.state.laid, self.state.under = {}, {}
            self.state.expected = dict(self.state.baseline)
            self.done()
        else:
            self.partly(said, after)

    def partly(self, said: Said, after: Tree) -> None:
        """A command did what it could: whatever it laid or took out, mods of the line-up lie nowhere now."""
        if "Restored" in said.out or "Nothing to do" not in said.out:
            self.state.laid, self.state.under = {}, {}
            self.state.expected = dict(self.state.baseline)
        self.done()

    def listed(self, out: str) -> set[str]:
        """Return the paths that stand on lines of their own."""
        return {line.strip() for line in out.splitlines() if line.startswith("  ")}

    def copy_words(self) -> list[str]:
        """Name a clean copy of the game as it was, sometimes."""
        if self.dice.random() < 0.5:
            return []
        folder = self.world.path("clean")
        if not os.path.isdir(folder):
            from tests.support import write_tree

            for version, tree in self.world.versions.items():
                write_tree(os.path.join(folder, version), tree)
        return ["--from", os.path.join(folder, self.state.version)]

    def restore_mod(self) -> None:
        """Take one mod out of the game: what lay under it is back, unless another lays there too."""
        if not self.state.laid:
            return
        mod = self.dice.choice(sorted(set(self.state.laid.values())))
        said, before, after = self.changing("restore", "--mod", mod, "--yes")
        if said.status not in (0, 1):
            if said.status == 3 and self.seen_at_last(said):
                return
            self.untrue(said, "restore --mod fails")
        state = self.state
        named = {each["path"] for rule in (LEFT, NOT_AS) for each in rule.finditer(said.text)}
        self.merged = {path for path in state.laid if self.is_merged(path)}
        paths = [path for path, owner in state.laid.items() if owner == mod]
        self.gone = {path: state.under.pop(path) for path in paths if path in state.under}
        for path in paths:
            del state.laid[path]
            state.expected.pop(path, None)
            if path in state.baseline:
                state.expected[path] = state.baseline[path]
        self.came_back(said, before, after, named)
        self.done()

    def restore_some(self) -> None:
        path = self.dice.choice(sorted(self.state.baseline))
        said, before, after = self.changing("restore", path, "--yes", *self.copy_words())
        if said.status == 0 and not self.is_own(path) and self.is_certain:
            under = self.state.under.get(path, self.state.baseline[path])
            if after.get(path) not in (self.state.baseline[path], under):
                self.untrue(said, f"{path} is not vanilla")
        if said.status != 2:
            if path in self.state.laid and (
                said.status == 0 or after.get(path) != before.get(path)
            ):
                del self.state.laid[path]
                self.state.under.pop(path, None)
                self.state.expected[path] = self.state.baseline[path]
            if after.get(path) == self.state.baseline[path]:
                self.hidden.discard(path)
            self.done()

    def restore_damaged(self) -> None:
        disk = self.disk()
        wrong = {p for p, kind in self.drift(disk).items() if kind != "foreign"}
        said, _, after = self.changing("restore", "--damaged", "--yes", *self.copy_words())
        if said.status == 2:
            self.untrue(said, "restore --damaged refuses")
        if said.status == 3 and self.seen_at_last(said):
            return
        named = {each["path"] for each in NOT_AS.finditer(said.err)}
        if (said.status == 0 or named) and self.is_certain:
            for path in wrong - named - self.hidden:
                if after.get(path) != self.state.expected.get(path):
                    self.untrue(said, f"{path} is not mended, and not named")
        if "nothing is damaged" in said.out and wrong - self.hidden and self.is_certain:
            self.untrue(said, f"'nothing is damaged', but {sorted(wrong)} are")
        self.hidden = {p for p in self.hidden if after.get(p) != self.state.expected.get(p)}
        self.done()

    # -- going back --------------------------------------------------------------------------------

    def checkpoint(self) -> None:
        names = [f"c{self.count}"] if self.dice.random() < 0.6 else []
        said, _, _ = self.changing("checkpoint", *names, *(["--good"] * (self.dice.random() < 0.4)))
        if said.status not in (0, 2):
            self.untrue(said, "checkpoint fails")
        self.done()

    def rewind(self) -> None:
        if not self.then:
            return
        numbers = [each["number"] for each in self.checkpoints()]
        number = self.dice.choice(numbers) if numbers else 0
        if number not in self.then:
            return
        goal = self.then[number]
        copy = self.copy_words()
        if copy:
            copy[1] = os.path.join(os.path.dirname(copy[1]), goal.version)
        said, before, after = self.changing("rewind", str(number), "--yes", *copy)
        if said.status == 2:
            if "kept nowhere" not in said.err and "is a folder now" not in said.err:
                self.untrue(said, "rewind refuses")
            return
        named = {each["path"] for each in NOT_AS.finditer(said.err)}
        named |= set(re.findall(r"^(\S+) is set aside; a copy is kept$", said.out, re.MULTILINE))
        if (said.status == 0 or named) and self.is_certain:
            self._is_as_then(said, goal, before, after, named)
        if said.status in (0, 1) and "Nothing was changed:" not in said.out:
            self.state = goal.copy(after)
            self.read_wants()
        self.hidden = {p for p in self.hidden if after.get(p) != self.state.expected.get(p)}
        self.done()

    def _is_as_then(
        self, said: Said, goal: State, before: Tree, after: Tree, named: set[str]
    ) -> None:
        now = self.state
        listed = self.listed(said.out)
        for path in sorted({*goal.expected, *now.expected, *goal.disk, *before}):
            if path in named or path in listed or path in self.hidden:
                continue
            if self.is_own(path) and path not in now.laid and path not in goal.laid:
                if before.get(path) != after.get(path):
                    self.untrue(said, f"the user's own {path} was touched")
                continue
            self.state = goal
            setting = self.is_setting(path)
            self.state = now
            setting = setting or self.is_setting(path)
            wanted = goal.disk.get(path) if setting else goal.expected.get(path)
            is_taken_away = path in goal.laid and path not in goal.expected
            if wanted is None and not is_taken_away and path not in now.expected and path in before:
                wanted = before[path]  # foreign: nobody knows whether it was there
            if after.get(path) == goal.disk.get(path) and path not in goal.expected:
                continue
            if (
                path.startswith("@")
                and not setting
                and path not in goal.laid
                and path not in now.laid
            ):
                continue
            if setting and wanted is None:
                continue
            if after.get(path) != wanted:
                now_there = f"{after.get(path)!r:.40}, not {wanted!r:.40}"
                self.untrue(said, f"{path} is not as it was then, and not named: {now_there}")

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
        removed = tuple(path for path in drift if path not in disk and path in self.state.baseline)
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
        copies = [each for each in json.loads(said.out)["kept"] if each["is_there"]]
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
