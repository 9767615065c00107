"""What commands say and write is a function of their input: the same under every hash seed."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import unittest

from rellum.cli.app import _MODULES
from tests.cli.test_contract import LOOKS
from tests.support import WorldTest, snapshot, write_tree

SEEDS = ("0", "1", "4242")
SCRIPT = (
    "adopt ../game", "take ../downloads --each", "vet", "want isle@1 reef@* gull@* mist@*", "resolve",
    "preview", "apply --yes", "conflicts", "checkpoint first", "want isle@2", "resolve", "why isle 2.0",
    "resolve --longer", "want isle@*", "resolve --fresh", "apply --yes", "compare first", "news", "outlook",
    "trial breaks", "hold gull 1.0 --reason calm", "resolve", "variant new other",
    "variant use vanilla --yes", "variant use other --yes", "describe ../downloads/odd.zip", "fetch",
    "report ../report.html", "guard off", "sweep --list", "hunt", "absorb --as mine", "backup make now",
    "backup list", "identify ../game", "graft", "decide", "restore --all --yes", "rewind first --yes",
    "kept", "space", "history", "drop mist", "press ../work/foam --version 1.0", "publish --sums ../sums",
    "completion words -- want", "play", "guide --list", "assemble ../parts ../new", "follow nowhere",
    "shelf", "check", "status",
)  # fmt: skip
NOT_HERE = {"demo"}  # its story takes a minute; test_story runs it


@unittest.skipUnless(hasattr(os, "fork"), "commands are forked")
class HashSeedTest(WorldTest):
    def test_all_commands_say_the_same_under_every_hash_seed(self) -> None:
        for mod, version, says in (
            (
                "isle",
                "1.0",
                'needs-one-of = [{ reef = "*", gull = ">=1" }]\nload = { after = ["reef"] }',
            ),
            ("isle", "2.0", 'needs = { reef = ">=2", gull = "*" }\nclashes = { mist = "*" }'),
            ("reef", "1.0", 'needs = { gull = "*" }\noffers = { kelp = "1" }'),
            ("reef", "2.0", 'needs = { gull = ">=2", mist = ">=2" }\ngame = ">=1"'),
            ("gull", "1.0", 'clashes = { isle = ">=2", reef = ">=2" }'),
            ("gull", "2.0", 'needs-one-of = [{ mist = "1", kelp = "*" }]'),
            ("mist", "1.0", 'load = { before = ["isle", "gull"] }'),
            ("mist", "2.0", 'clashes = { kelp = "*", gull = ">=2" }'),
        ):
            members = {f"mods/{mod}.dat": version.encode() * 50, "data/sea.dat": mod.encode()}
            self.world.add_release(mod, version, members, says=says)
        write_tree(self.world.path("downloads"), {"odd.zip": b"no archive", "note.txt": b"?"})
        write_tree(self.world.path("work", "foam"), {"foam.dat": b"foam", "more/white.dat": b"w"})
        commands = [each.split() for each in SCRIPT] + [[*each, "--json"] for each in LOOKS]
        self.assertEqual(set(_MODULES) - {each[0] for each in commands}, NOT_HERE)
        write_tree(self.world.root, {"commands.json": json.dumps(commands).encode()})
        first = os.path.join(self.world.root, "first")
        shutil.copytree(self.world.root, first, ignore=shutil.ignore_patterns("first"))
        told = [self.told(first, seed) for seed in SEEDS]
        for other in told[1:]:
            self.assertEqual(told[0][0].split("\n$ "), other[0].split("\n$ "))
            for path in told[0][1].keys() | other[1].keys():
                self.assertEqual(told[0][1].get(path), other[1].get(path), path)
        self.assertNotIn("Traceback", told[0][0])

    def told(self, first: str, seed: str) -> tuple[str, dict[str, str]]:
        """Run all commands from the start; return what they said, and what pack and game are then."""
        run = os.path.join(self.world.root, "run")
        shutil.rmtree(run, ignore_errors=True)
        shutil.copytree(first, run)
        shutil.rmtree(os.path.join(self.world.root, "cache"), ignore_errors=True)
        done = subprocess.run(
            [sys.executable, "-m", "tests.seeded", os.path.join(run, "commands.json")],
            cwd=os.path.join(run, "pack"),
            env={
                **os.environ,
                "PYTHONHASHSEED": seed,
                "PYTHONUTF8": "1",
                "PYTHONPATH": os.pathsep.join(filter(None, sys.path)),
                "RELLUM_SHELF": os.path.join(run, "shelf"),
                "COLUMNS": "100",
            },
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        left = {
            f"{folder}/{path}": without_moments(entry.content.decode("utf-8", "replace"))
            for folder in ("game", "pack", "catalog")
            for path, entry in snapshot(os.path.join(run, folder)).items()
            if entry.content is not None and "/.rellum/" not in f"/{path}"
        }
        return without_moments(done.stdout), left


_DRAWN = (
    (r"\d{4}-\d\d-\d\d[T ]\d\d[:-]?\d\d[:-]?\d\d(\.\d+)?(\+\d\d:\d\d|Z)?", "MOMENT"),
    (r"\d{4}-\d\d-\d\d \d\d:\d\d", "MOMENT"),
    (r"\"?(mtime|taken|seconds|moment|at)\"?: ?\"?[\d.]+\"?", "MOMENT"),
    (r"\b[0-9a-f]{16}\b", "PACK"),  # a pack's own name is drawn when it is adopted
    (
        r"\"free_bytes\": \d+|[\d.]+ [kMGT]?B free|free [\d.]+ [kMGT]?B",
        "FREE",
    ),  # others use the disk
    (r"\b\d+(\.\d+)? s\b", "SECONDS"),
)


def without_moments(text: str) -> str:
    """Return a text without moments, durations, free space, and what is drawn once for a pack."""
    for pattern, word in _DRAWN:
        text = re.sub(pattern, word, text)
    return text


if __name__ == "__main__":
    unittest.main()
