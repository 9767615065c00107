"""Random days of a curator, the program killed at random: ``python -m tools.random_days SECONDS SEED``.

The built program is called with random commands, files are broken by hand, and about a third of the
changes are killed (SIGKILL) at a random moment. ``check --deep`` must never find anything that was not
broken here; a rewind must lead to just what was noted in memory at that checkpoint; what is swept or
absorbed must come and go whole; and after ``restore --all`` the folder must be as it was adopted: names,
content, modes, times. Stops at the first fault and says what was done last.
"""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import tempfile
import time
import tomllib
from collections import Counter, deque

from tests.support import Entry, World, write_tree, zip_bytes

MODS = ("tides", "swell", "waves")
SAYS = """removes = ["@data/f{number}.dat"]
[release.settings]
"@settings/*.ini" = "merge"
"""
PLACES = """take = "files/**"
to = "@game/"
[[release.place]]
take = "pak/**"
to = "@data/core.pak!/maps/"
[[release.place]]
take = "set/**"
to = "@settings/"
"""


class Fault(Exception):
    """Something is not as it was promised."""


class Days:
    """A world, what the pack wants in it, and the counts of what was done."""

    def __init__(self, root: str, seed: int) -> None:
        self.random = random.Random(seed)
        size = self.random.randint
        # A third of the files have their content in common with another.
        vanilla = {f"data/f{n}.dat": b"vanilla %d " % (n % 100) * 40 for n in range(150)}
        vanilla["data/core.pak"] = zip_bytes({f"maps/{n}": b"map %d" % n * 99 for n in range(9)})
        self.world = World(root, {"version.txt": b"version: 1.6.0\n", **vanilla})
        self.world.change_sheet(places='settings = "{documents}/Fathomline"')
        write_tree(self.world.path("player"), {"tides.ini": b"mine = 1\n", "other.ini": b"x"})
        self.vanilla = self.world.game(times=True)
        for number, mod in enumerate(MODS):
            for version in ("1", "2"):
                over = range(number * 30, number * 30 + 80)
                members = {
                    f"data/f{n}.dat": f"{mod} {version} {n}".encode() * size(1, 900) for n in over
                }
                for n in range(150):
                    members[f"mods/{mod}/d{n % 5}/{version}-{n}"] = self.random.randbytes(3000)
                files = {f"files/{name}": content for name, content in members.items()}
                files |= {f"pak/{mod}-{n}": self.random.randbytes(500) for n in range(number, 4)}
                files[f"set/{mod}.ini"] = f"[a]\nkey = {version}\nnew = {version}\n".encode()
                says = SAYS.format(number=120 + number)
                self.world.add_release(mod, version, files, says=says, place=PLACES)
        self.world.adopt()
        self.world.change_pack(
            '[game.places]\nsettings = "../player"\n[settings]\n"@settings" = "mine"\n'
        )
        self.world.take_all()
        self.wanted: set[str] = set()
        self.counts: Counter[str] = Counter()
        self.last: deque[str] = deque(maxlen=12)
        self.output = ""
        self.has_gone = False  # a mod that edits the player's files went, and came again
        self.then: dict[int, dict[str, Entry]] = {}  # what the game was at each checkpoint

    def run(self, *words: str, seconds: float | None = None) -> int:
        """Run the program, killed after so many seconds; return its exit status."""
        process = subprocess.Popen(
            [sys.executable, "-m", "rellum", *words],
            cwd=self.world.path("pack"),
            env={
                **os.environ,
                "RELLUM_SHELF": self.world.path("shelf"),
                "RELLUM_CACHE": self.world.path("cache"),
            },
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        self.counts["commands"] += 1
        try:
            output, errors = process.communicate(timeout=seconds)
        except subprocess.TimeoutExpired:
            process.kill()
            process.communicate()
            self.counts["killed"] += 1
            self.last.append(f"{' '.join(words)}: killed")
            return -9
        self.last.append(f"{' '.join(words)}: {process.returncode} {errors.strip()[:200]}")
        self.output = output
        self.counts["recoveries told"] += "had been interrupted" in errors
        if "Traceback" in errors:
            raise Fault(f"{words}: {errors}")
        if words[0] == "check" and process.returncode:
            raise Fault(f"{words}: {output}{errors}")
        return process.returncode

    def step(self) -> None:
        """Do one random thing."""
        kind = self.random.choices(
            (
                self.want,
                self.drop,
                self.change,
                self.check,
                self.break_a_file,
                self.set,
                self.rewind,
                self.sweep,
                self.absorb,
                self.vanilla_and_back,
                self.backup,
                self.hunt,
            ),
            (3, 1, 4, 1, 1, 1, 3, 1, 1, 2, 1, 1),
        )[0]
        self.remember()
        kind()

    def remember(self) -> None:
        """Note what the game is at a checkpoint, in memory."""
        if self.run("checkpoint", "--json") == 0:
            made = json.loads(self.output)["checkpoint"]
            self.then[made["number"]] = self.world.game()

    def rewind(self) -> None:
        """Go back to any checkpoint, and compare with what was noted; or be killed on the way."""
        self.run("checkpoint", "--list", "--json")
        listed = {each["number"] for each in json.loads(self.output)["checkpoints"]}
        self.then = {number: tree for number, tree in self.then.items() if number in listed}
        number = self.random.choice(sorted(self.then))
        before = self.world.game()
        killed = self.random.random() < 0.5
        words = ("rewind", str(number), "--yes")
        self.run(*words, seconds=self.random.uniform(0.12, 0.5) if killed else None)
        self.run("check", "--deep")
        self.wanted = self.wants()
        now, then = self.world.game(), self.then[number]
        self.counts["rewound and compared"] += 1
        if now != then and not (killed and now == before):
            differing = [n for n in now.keys() | then if now.get(n) != then.get(n)]
            raise Fault(f"not as it was at checkpoint {number}: {sorted(differing)[:5]}")

    def wants(self) -> set[str]:
        """Return what rellum.toml wants now."""
        with open(self.world.path("pack", "rellum.toml"), "rb") as file:
            return set(tomllib.load(file).get("want", {}))

    def sweep(self) -> None:
        """Drop files among the mods; sweep them out, perhaps killed; and bring them back."""
        before = self.world.game()
        write_tree(self.world.path("game"), {"mods/mine/a.txt": b"mine", "data/mine.txt": b"mine"})
        killed = self.random.random() < 0.5
        self.run("sweep", "--yes", seconds=self.random.uniform(0.12, 0.5) if killed else None)
        self.run("sweep", "--yes")
        if self.world.game() != before:
            raise Fault("a sweep left something, or took too much")
        swept = sum(
            "mine.txt" in names for _, _, names in os.walk(self.world.path("pack", "swept"))
        )
        self.counts["swept"] += 1
        self.then.clear()  # a rewind brings back what was swept
        if swept < self.counts["swept"]:
            raise Fault("what was swept is not there")

    def vanilla_and_back(self) -> None:
        """Play vanilla for an evening, perhaps killed on the way there or back: all is as before."""
        if self.run("apply", "--yes"):
            return  # there is no line-up
        before = self.world.game()
        for name in ("vanilla", "main"):
            words = ("variant", "use", name, "--yes")
            if self.random.random() < 0.5:
                self.run(*words, seconds=self.random.uniform(0.12, 0.6))
                self.run("check", "--deep")
            if self.run(*words):
                raise Fault(f"{words}: {self.last[-1]}")
            self.run("check", "--deep")
        self.counts["vanilla and back"] += 1
        self.has_gone = True
        if (now := self.world.game()) != before:
            differing = [n for n in now.keys() | before if now.get(n) != before.get(n)]
            raise Fault(f"not as before vanilla: {sorted(differing)[:5]}")

    def backup(self) -> None:
        """Spoil and lose settings, and bring them back, perhaps killed on the way."""
        before = self.world.game()
        self.run("backup")
        write_tree(self.world.path("player"), {"tides.ini": b"spoilt", "new.ini": b"n"})
        if os.path.exists(other := self.world.path("player", "other.ini")):
            os.unlink(other)
        number = json.loads(self.listed_backups())["backups"][0]["number"]
        words = ("backup", "back", str(number), "--exactly", "--yes")
        if self.random.random() < 0.5:
            self.run(*words, seconds=self.random.uniform(0.12, 0.5))
        if self.run(*words):
            raise Fault(f"{words}: {self.last[-1]}")
        self.counts["backups brought back"] += 1
        if self.world.game() != before:
            raise Fault("the settings are not as they were kept")

    def listed_backups(self) -> str:
        self.run("backup", "list", "--json")
        return self.output

    def hunt(self) -> None:
        """Hunt for a mod that is there, perhaps killed and gone on with: all is as before."""
        if self.run("apply", "--yes") or not self.wants():
            return
        culprit = self.random.choice(sorted(self.wants()))
        before = self.world.game()
        folder = self.world.path("game", "mods", culprit)
        words = ("hunt", "--run", f'test ! -d "{folder}"')
        if self.random.random() < 0.5:
            self.run(*words, seconds=self.random.uniform(0.2, 1.5))
        if self.run(*words) not in (0, 1):
            raise Fault(f"{words}: {self.last[-1]}")
        trials = self.world.path("pack", "trials.toml")
        if os.path.exists(trials):
            os.unlink(trials)  # what broke here is wanted again
        self.run("check", "--deep")
        self.counts["hunts"] += 1
        self.has_gone = True
        if self.world.game() != before:
            raise Fault("not as before the hunt")

    def absorb(self) -> None:
        """Change a vanilla file by hand, make a mod of it, and drop that again."""
        self.run("restore", "--all", "--yes")
        if self.run("apply", "--yes"):
            return  # there is no line-up; making one would lay more than what is absorbed
        before = self.world.game()
        self.run("absorb", "--begin")
        path = self.world.path("game", "data", "f149.dat")
        with open(path, "rb") as file:
            content = file.read()
        write_tree(self.world.path("game"), {"data/f149.dat": b"tweaked", "mods/own.txt": b"own"})
        if self.run("absorb", "--end", "--as", "own", "--yes"):
            write_tree(self.world.path("game"), {"data/f149.dat": content})
            os.unlink(self.world.path("game", "mods", "own.txt"))
            return  # nothing to lay it with: no line-up exists
        self.run("check", "--deep")
        self.run("drop", "own")
        self.run("apply", "--yes")
        self.counts["absorbed"] += 1
        self.then.clear()  # a rewind brings back what stood there by hand
        if self.world.game() != before:
            raise Fault("an absorbed mod was dropped, and the game is not as before")

    def want(self) -> None:
        """Want a mod in some range, and resolve."""
        mod = self.random.choice(MODS)
        self.run("want", mod, self.random.choice(("*", "1", "2")))
        self.wanted.add(mod)
        self.run("resolve")

    def drop(self) -> None:
        """Drop a mod, without resolving."""
        if self.wanted:
            mod = self.random.choice(sorted(self.wanted))
            self.wanted.remove(mod)
            self.run("drop", mod)

    def set(self) -> None:
        """Change a setting of a mod that is laid; that is no drift."""
        self.run("check")
        laid = os.listdir(self.world.path("player"))
        name = self.random.choice(sorted(laid)) if laid else ""
        if name in {f"{mod}.ini" for mod in MODS} and b"[a]" in self.settings(name):
            key, value = self.random.choice(("key", "own")), self.random.randrange(99)
            line = f"{key} = {value}\n".encode()
            write_tree(self.world.path("player"), {name: b"[a]\n" + line})
            self.counts["settings changed"] += 1
            self.run("apply", "--yes")
            there = name in os.listdir(self.world.path("player"))
            if there and b"[a]" in self.settings(name) and line not in self.settings(name):
                raise Fault(f"{name}: {line!r} is lost")

    def settings(self, name: str) -> bytes:
        """Return a file of the player's settings."""
        with open(self.world.path("player", name), "rb") as file:
            return file.read()

    def change(self) -> None:
        """Change the game in some way, and perhaps be killed while at it."""
        words = self.random.choice(
            ("apply", "apply", "restore --all", "restore data", f"restore --mod {MODS[0]}")
        ).split()
        killed = self.random.random() < 0.5
        self.run(*words, "--yes", seconds=self.random.uniform(0.12, 0.5) if killed else None)

    def check(self) -> None:
        """Nothing may differ."""
        self.run("check", "--deep")

    def break_a_file(self) -> None:
        """Break a mod's file, mend it by apply, and go back to vanilla."""
        self.run("check")
        mods = self.world.path("game", "mods")
        files = [os.path.join(folder, name) for folder, _, names in os.walk(mods) for name in names]
        if not files:
            return
        path = self.random.choice(sorted(files))
        if self.random.random() < 0.5:
            os.unlink(path)
        else:
            with open(path, "ab") as file:
                file.write(b"broken")
        self.run(*self.random.choice((("apply",), ("restore", "--damaged"))), "--yes")
        self.run("check", "--deep")
        self.restore()

    def learn_own_keys(self, name: str, entry: Entry) -> None:
        """Take in the player's keys: where a mod that edits the player's file goes, only its keys go.

        A switch and a hunt let mods go; a restore brings back what stood there before. A file from which keys
        went has the time of that.
        """
        before = self.vanilla[name]
        then, now = (before.content or b"").splitlines(), (entry.content or b"").splitlines()
        more = [line for line in now if line not in then]
        are_own = all(line == b"[a]" or line.startswith(b"own = ") for line in more)
        if are_own and now[: len(then)] == then and self.has_gone:
            self.vanilla[name] = entry

    def restore(self) -> None:
        """Go back to vanilla and compare."""
        self.run("restore", "--all", "--yes")
        now = self.world.game(times=True)
        self.counts["vanilla compared"] += 1
        for name in [name for name in now if name.endswith(".ini") and name in self.vanilla]:
            self.learn_own_keys(name, now[name])
        if now != self.vanilla:
            differing = [n for n in now.keys() | self.vanilla if now.get(n) != self.vanilla.get(n)]
            first = sorted(differing)[0]
            how = f"{self.vanilla.get(first)} became {now.get(first)}"
            raise Fault(f"not vanilla: {sorted(differing)[:5]}: {how[:600]}")


def main() -> int:
    """Live for so many seconds; 1 at the first fault."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else time.time_ns() % 100_000
    end = time.monotonic() + seconds
    with tempfile.TemporaryDirectory() as root:
        days = Days(os.path.realpath(root), seed)
        try:
            while time.monotonic() < end:
                days.step()
                days.counts["steps"] += 1
            days.restore()
        except Fault as fault:
            print(f"seed {seed}, after {days.counts['steps']} steps: {fault}")
            print("last:", *days.last, sep="\n  ")
            return 1
    print(f"seed {seed}:", ", ".join(f"{count:,} {what}" for what, count in days.counts.items()))
    return 0


if __name__ == "__main__":
    sys.exit(main())
