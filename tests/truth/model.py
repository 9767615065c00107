"""A model of a pack that knows nothing of the program's code, and holds every sentence to the truth.

It knows what vanilla is, what each mod brings, what the user did, and what stood where at each checkpoint.
After each command it compares what was said with what stands in the folders. What a person made must never
be lost: it stands somewhere, or the program keeps it.
"""

from __future__ import annotations

import os
import re
from dataclasses import dataclass, field, replace
from typing import Any

from tests.support import read_document, write_tree
from tests.truth import kinds
from tests.truth.runner import Said, run
from tests.truth.world import Tree, World

MARKER = ".rellum-owner.toml"
NOT_AS = re.compile(
    r"^warning: (?P<path>.+?) is not as (?:it was then|it should be): ", re.MULTILINE
)
LEFT = re.compile(
    r"^(?P<path>\S+): .*(?:no copy of that one|no copy of it|no copy is kept)", re.MULTILINE
)


class Untrue(AssertionError):
    """The program said something that is not so, or lost something."""


@dataclass
class State:
    """What should be. ``expected`` is what Rellum left; ``under`` what lay under files of mods."""

    version: str
    baseline: Tree
    expected: Tree
    laid: dict[str, str] = field(default_factory=dict)
    under: dict[str, bytes | None] = field(default_factory=dict)
    disk: Tree = field(default_factory=dict)

    def copy(self, disk: Tree) -> State:
        return replace(
            self,
            baseline=dict(self.baseline),
            expected=dict(self.expected),
            laid=dict(self.laid),
            under=dict(self.under),
            disk=dict(disk),
        )


class Model:
    """One pack in one world, and everything that happens to it."""

    def __init__(self, world: World) -> None:
        self.world = world
        self.dice = world.dice
        self.said_so_far: list[str] = []
        self.then: dict[int, State | None] = {}
        self.made: dict[bytes, str] = {}
        self.hidden: set[str] = set()
        self.wants: set[str] = set()
        self.commands = 0
        self.count = 0
        self.is_certain = True
        self.swept: list[Tree] = []
        self.gone: dict[str, bytes | None] = {}
        self.merged: set[str] = set()
        self.begin()

    # -- the folders -------------------------------------------------------------------------------

    def disk(self) -> Tree:
        """Return every file of the game and of the places outside, by path."""
        found: Tree = {}
        roots = [("", self.world.path("game"))]
        roots += [(f"@{name}/", self.world.file(f"@{name}/")) for name in self.world.places]
        outside = {os.path.normpath(folder) for _, folder in roots}
        for prefix, root in roots:
            for folder, folders, names in os.walk(root):
                folders[:] = [
                    f
                    for f in folders
                    if os.path.join(folder, f) not in outside - {os.path.normpath(root)}
                ]
                for name in names:
                    file = os.path.join(folder, name)
                    path = prefix + os.path.relpath(file, root).replace(os.sep, "/")
                    if path != MARKER:
                        with open(file, "rb") as stream:
                            found[path] = stream.read()
        return found

    def kept(self) -> set[bytes]:
        """Return the contents that the program keeps for the user, wherever in the pack."""
        found = set()
        for top in (
            self.world.path("pack", ".rellum", "originals"),
            self.world.path("pack", ".rellum", "backups"),
            self.world.path("pack", "swept"),
        ):
            for folder, _, names in os.walk(top):
                for name in names:
                    with open(os.path.join(folder, name), "rb") as stream:
                        found.add(stream.read())
        return found

    def is_own(self, path: str) -> bool:
        """Whether a path is the user's or the game's own affair by the sheet, or by a card of the line-up."""
        carried = [
            self.world.mods[m].carry
            for m in {*self.state.laid.values(), *self.wants}
            if m in self.world.mods
        ]
        own = (*self.world.own, *filter(None, carried))
        return path.startswith(own) or path.startswith("@saves/")

    def is_merged(self, path: str) -> bool:
        """Whether the user's changes of a laid file are meant."""
        mod = self.world.mods.get(self.state.laid.get(path, ""))
        return mod is not None and (
            path == mod.settings or (path == mod.edits and path.startswith("@"))
        )

    def is_setting(self, path: str) -> bool:
        """Whether a path is kept with checkpoints as a setting."""
        if path in self.state.laid and not self.is_merged(path):
            return False
        inside = 'settings = "@game/cfg"' in self.world.sheet and path.startswith("cfg/")
        return path.startswith("@settings/") or inside or self.is_merged(path)

    def drift(self, disk: Tree) -> dict[str, str]:
        """Return what a check must find, by path: changed, missing or foreign."""
        found: dict[str, str] = {}
        for path, content in self.state.expected.items():
            if self.is_own(path) or self.is_merged(path):
                if path not in disk and self.is_merged(path):
                    found[path] = "missing"
                continue
            if path not in disk:
                found[path] = "missing"
            elif disk[path] != content:
                found[path] = "changed"
        for path in disk:
            if (
                not path.startswith("@")
                and path not in self.state.expected
                and not self.is_own(path)
            ):
                taken_away = path in self.state.laid or path in self.state.baseline
                found[path] = "changed" if taken_away else "foreign"
        return found

    # -- running -----------------------------------------------------------------------------------

    def run(self, *words: str) -> Said:
        """Run a command; nothing it says may be a traceback, and nothing the user made may be lost."""
        before = self.disk()
        said = run(words, self.world.path("pack"), self.world.variables)
        self.commands += 1
        self.said_so_far.append(_brief(said))
        if "Traceback" in said.text or said.status not in (0, 1, 2, 3):
            self.untrue(said, "a traceback, or an exit status of its own")
        after = self.disk()
        if "Nothing was changed" in said.text or said.status == 2:
            self.equal(said, before, after, "nothing was changed")
        self.nothing_is_lost(said, before, after)
        return said

    def untrue(self, said: Said, why: str) -> None:
        raise Untrue(f"{why}\n" + "\n".join(self.said_so_far[-60:]))

    def equal(self, said: Said, wanted: Tree, found: Tree, why: str) -> None:
        """Refuse what differs between two trees."""
        for path in sorted(wanted.keys() | found.keys()):
            if wanted.get(path) != found.get(path):
                a, b = wanted.get(path), found.get(path)
                self.untrue(said, f"{why}: {path} should be {a!r:.60} and is {b!r:.60}")

    def nothing_is_lost(self, said: Said, before: Tree, after: Tree) -> None:
        gone = {c for c in before.values() if c in self.made} - set(after.values())
        if (
            gone
            and said.words[0] not in ("absorb",)
            and not (said.words[0] == "kept" and "drop" in said.words)
        ):
            lost = gone - self.kept()
            shelved = {c for mod in self.world.mods.values() for c in mod.contents}
            for content in lost - shelved:
                self.untrue(
                    said, f"what the user made is lost: {content!r:.60} of {self.made[content]}"
                )

    def checkpoints(self) -> list[dict[str, Any]]:
        """Return the checkpoints as the program lists them."""
        words = ("checkpoint", "--list", "--json")
        said = run(words, self.world.path("pack"), self.world.variables)
        listed: list[dict[str, Any]] = read_document(said.out)["checkpoints"]
        return listed

    def note_checkpoints(self, before: State, after: State) -> None:
        """Note what each new checkpoint is of: what was before the command, or after it (``checkpoint``)."""
        said = run(
            ("checkpoint", "--list", "--json"), self.world.path("pack"), self.world.variables
        )
        for each in read_document(said.out)["checkpoints"]:
            if each["number"] not in self.then:
                self.then[each["number"]] = (before if each["ended_by"] else after).copy(
                    (before if each["ended_by"] else after).disk
                )

    # -- the beginning -----------------------------------------------------------------------------

    def begin(self) -> None:
        disk = self.disk()
        words = ["adopt", "../game", "--catalog", "../catalog"]
        if self.world.stated:
            words += ["--version", "1.0"]
        # A version that nobody states and no rule tells cannot be adopted.
        first = self.world.versions["1.0"]
        knows = "1.0" in self.world.known
        in_game = {path: c for path, c in disk.items() if not path.startswith("@")}
        baseline = dict(first) if knows else in_game
        self.state = State("1.0", baseline, dict(baseline), disk=disk)
        self.made |= {c: path for path, c in disk.items() if first.get(path) != c}
        said = self.run(*words)
        if said.status:
            self.untrue(said, "adopt fails")
        says_clean = "Next: 'rellum want" in said.out
        if knows and says_clean and self.drift(disk):
            self.untrue(said, f"adopt says nothing of {self.drift(disk)}")
        self.run("take", "../downloads", "--each")
        with open(self.world.path("pack", "rellum.toml"), "a", encoding="utf-8") as file:
            file.write(kinds.pack_lines(self.world))

    # -- what the user does ------------------------------------------------------------------------

    def fresh(self) -> bytes:
        """Return a content that nothing else has."""
        self.count += 1
        return b"by hand %d\n" % self.count

    def write(self, path: str, content: bytes) -> None:
        target = self.world.file(path)
        if os.path.isdir(target):
            return
        try:
            write_tree(os.path.dirname(target), {os.path.basename(target): content})
        except (NotADirectoryError, FileExistsError):
            return
        self.made[content] = path
        self.hidden.discard(path)
        self.said_so_far.append(f"# {path} written: {content!r:.50}")

    def by_hand(self) -> None:
        """Do something in the folders that no command did."""
        dice, disk = self.dice, self.disk()
        in_game = [path for path in disk if not path.startswith("@")]
        kind = dice.choice(
            ("change", "delete", "foreign", "in mod", "save", "settings", "hide", "own", "update")
        )
        if kind == "change" and in_game:
            self.write(dice.choice(in_game), self.fresh())
        elif kind == "delete" and in_game:
            path = dice.choice(in_game)
            if disk[path] not in self.made and path not in ("gale.bin", "version.txt"):
                os.unlink(self.world.file(path))
                self.said_so_far.append(f"# {path} deleted")
        elif kind == "foreign":
            self.write(
                dice.choice(("", "data/", "mods/", "new/deep/")) + f"foreign{self.count}.txt",
                self.fresh(),
            )
        elif kind == "in mod" and self.state.laid:
            mod = dice.choice(sorted(set(self.state.laid.values())))
            self.write(f"mods/{mod}/yours/{self.count}.txt", self.fresh())
        elif kind == "save" and self.world.is_outside("saves"):
            self.write(f"@saves/{dice.randint(1, 3)}.sav", self.fresh())
        elif kind == "own" and self.world.own:
            self.write(f"{dice.choice(self.world.own)}o{dice.randint(1, 3)}", self.fresh())
        elif kind == "settings":
            self._change_settings(disk)
        elif kind == "hide":
            self._hide(in_game, disk)
        elif kind == "update" and dice.random() < 0.4:
            self._update(dice.random() < 0.3)

    def _change_settings(self, disk: Tree) -> None:
        found = [path for path in disk if self.is_setting(path)]
        if self.world.is_outside("settings"):
            found.append(f"@settings/s{self.dice.randint(1, 2)}.ini")
        if found:
            self.count += 1
            path = self.dice.choice(found)
            text = disk.get(path, b"").decode("utf-8", "replace")
            if path.endswith(".ini") and "[" in text:  # one key more, as a game would write it
                self.write(path, f"{text.rstrip()}\nmine{self.count} = {self.count}\n".encode())
            else:
                self.write(path, self.fresh())

    def _hide(self, in_game: list[str], disk: Tree) -> None:
        """Change a byte and leave size and time as they are."""
        path = self.dice.choice(in_game)
        if (
            path not in self.state.expected
            or len(disk[path]) < 4
            or self.is_own(path)
            or path in ("version.txt", "gale.bin")
        ):
            return
        file = self.world.file(path)
        status = os.stat(file)
        content = bytes([disk[path][0] ^ 1]) + disk[path][1:]
        with open(file, "r+b") as stream:
            stream.write(content)
        os.utime(file, ns=(status.st_mtime_ns, status.st_mtime_ns))
        self.hidden.add(path)
        self.said_so_far.append(f"# {path} changed behind its size and time")

    def _update(self, half: bool) -> None:
        """Let the game's store update it, or begin to."""
        if self.state.version != "1.0" or self.hidden:
            return
        old, new = self.world.versions["1.0"], self.world.versions["1.1"]
        changed = [path for path in old.keys() | new.keys() if old.get(path) != new.get(path)]
        self.dice.shuffle(changed)
        for path in changed[: len(changed) // 2 if half else None]:
            if path in new:
                self.write(path, new[path])
                del self.made[new[path]]
            elif os.path.exists(self.world.file(path)):
                os.unlink(self.world.file(path))
        self.said_so_far.append(f"# the store {'half ' if half else ''}updated the game: {changed}")

    def has_update(self, disk: Tree) -> bool:
        """Whether files of the other version lie in the folder, or its mark does."""
        old, new = self.world.versions["1.0"], self.world.versions["1.1"]
        other = new if self.state.version == "1.0" else old
        this = old if self.state.version == "1.0" else new
        return any(
            disk.get(path) == content and this.get(path) != content
            for path, content in other.items()
        )


def _brief(said: Said) -> str:
    """Return a command and its answer; of what a check finds only the paths."""
    if "--json" not in said.words or not said.out.startswith("{"):
        return str(said)
    document = read_document(said.out)
    found = [f"{each['path']} {each['cause']}" for each in document.get("findings", ())]
    return f"$ rellum {' '.join(said.words)}  -> {said.status}: {found}{said.err}"
