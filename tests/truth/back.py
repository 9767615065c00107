"""Going back, to vanilla or to a checkpoint: all that was said of it, checked against the folders."""

from __future__ import annotations

import os
import re
import tomllib

from tests.truth import kinds
from tests.truth.model import LEFT, NOT_AS, State
from tests.truth.rarer import Rarer
from tests.truth.runner import Said
from tests.truth.world import Tree


class Back(Rarer):
    """Commands that go back."""

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

    def read_wants(self) -> None:
        with open(self.world.path("pack", "rellum.toml"), "rb") as file:
            self.wants = set(tomllib.load(file).get("want", {}))

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
                if (
                    path not in self.state.baseline
                    and mod
                    and after.get(path) in mod.contents
                    and after.get(path) != self.state.under.get(path)
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
        mod = self.dice.choice(sorted(set(self.state.laid.values()) - {kinds.GRAFT}) or [""])
        if not mod:
            return
        said, before, after = self.changing("restore", "--mod", mod, "--yes")
        if said.status == 2 and "the game has no files of" in said.err:
            same = {p for p, m in self.state.laid.items() if m == mod} & self.state.baseline.keys()
            if self.is_certain and not same:
                self.untrue(said, "what the mod has laid is forgotten")
            return
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
        if goal is None:  # of another variant
            return
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
            known = (goal.disk, *self.swept)  # a sweep that is undone brings back what it took
            if path not in goal.expected and after.get(path) in [tree.get(path) for tree in known]:
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
