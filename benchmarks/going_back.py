"""Checking in full, laying over a whole game, and going back; beside what a user would run instead."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import zipfile
from collections.abc import Iterator

from benchmarks.measure import Command, Comparison, compare
from benchmarks.worlds import BenchWorld


def deep(root: str, rellum: str) -> Iterator[Comparison]:
    """``check --deep`` of 20,000 files, 2 GB, beside b3sum of the same files."""
    world = _world(root, rellum)
    ours = Command("rellum check --deep", [rellum, "check", "--deep"], world.path("pack"))
    hash_all = "find game -type f -print0 | xargs -0 b3sum"
    other = Command("b3sum", ["sh", "-c", hash_all], world.root)
    yield compare("check --deep 20,000 files, 2 GB", ours, other, 1.5, 5)


def over(root: str, rellum: str) -> Iterator[Comparison]:
    """A mod over all 20,000 files, 2 GB, beside ``rsync -a`` of its files over a copy, then sync."""
    world = _world(root, rellum)
    new, copy = world.path("new"), world.path("copy")
    subprocess.run(["rsync", "-a", "--delete", world.path("game/"), copy], check=True)

    state, untouched = world.path("pack", ".rellum"), world.path("untouched")
    if not os.path.isdir(untouched):
        shutil.copytree(state, untouched)

    def vanilla() -> None:
        """As it was adopted, with nothing kept of what was laid before."""
        world.run("restore", "--all", "--yes")
        shutil.rmtree(state)
        shutil.copytree(untouched, state)
        os.sync()

    def vanilla_copy() -> None:
        subprocess.run(["rsync", "-a", "--delete", world.path("game/"), copy], check=True)
        os.sync()

    ours = Command("rellum apply", [rellum, "apply", "--yes"], world.path("pack"), vanilla)
    rsync = f"rsync -a {new}/ {copy}/ && sync"
    other = Command("rsync -a, sync", ["sh", "-c", rsync], world.root, vanilla_copy)
    yield compare("apply over 20,000 files, 2 GB", ours, other, 1, 3)


def _world(root: str, rellum: str) -> BenchWorld:
    """A game of 20,000 files, and a mod that replaces them all."""
    folder = os.path.join(root, "over")
    made = os.path.isdir(folder)
    world = BenchWorld(folder, rellum)
    os.environ["RELLUM_SHELF"] = world.path("shelf")
    if not made:
        world.fill_game(20_000, 107_374)
        _make_mod(world)
        world.add_card("over", world.path("over.zip"), 'to = "@game/"')
        for words in ("adopt ../game", "take ../over.zip", "want over", "resolve"):
            world.run(*words.split())
    return world


def _make_mod(world: BenchWorld) -> None:
    """Write the mod's files twice: as a stored archive, and in a folder for rsync."""
    dice = random.Random(7)
    game, new = world.path("game"), world.path("new")
    with zipfile.ZipFile(world.path("over.zip"), "w", zipfile.ZIP_STORED) as archive:
        for folder, _, names in os.walk(game):
            for name in names:
                path = os.path.relpath(os.path.join(folder, name), game)
                if path == "version.txt":
                    continue
                content = dice.randbytes(os.path.getsize(os.path.join(folder, name)))
                archive.writestr(path, content)
                target = os.path.join(new, path)
                os.makedirs(os.path.dirname(target), exist_ok=True)
                with open(target, "wb") as file:
                    file.write(content)


def rewind(world: BenchWorld, rellum: str) -> Iterator[Comparison]:
    """Ten changed files among 100,000, all of them looked at, beside ``rsync -a`` from a copy, then sync."""
    work_tree = world.path("git")

    def spoil() -> None:
        for number in range(10):
            path = os.path.join(work_tree, "d3", "s150", f"file_{15000 + number}.dat")
            with open(path, "wb") as file:
                file.write(b"spoilt")

    def change() -> None:
        world.run("apply", "--yes")
        world.run("restore", "--mod", "ten", "--yes")

    words = [rellum, "rewind", "--yes"]
    ours = Command("rellum rewind", words, world.path("pack"), change)
    rsync = f"rsync -a {world.path('copy')}/ {work_tree}/ && sync"
    other = Command("rsync -a, sync", ["sh", "-c", rsync], world.root, spoil)
    yield compare("rewind ten of 100,000 files", ours, other, 1.5, 9)
