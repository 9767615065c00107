"""Backups, variants, history: what a curator does between two changes, beside plain tools."""

from __future__ import annotations

import os
import random
import shutil
import zipfile
from collections.abc import Iterator

from benchmarks.measure import Command, Comparison, compare
from benchmarks.worlds import BenchWorld

_SAVES = 5_000
_CHANGED = 100


def backup(root: str, rellum: str) -> Iterator[Comparison]:
    """5,000 saves, 2 % changed, beside ``rsync -a --link-dest``; unchanged, beside ``rellum --help``."""
    world = _with_saves(root, rellum)
    saves = world.path("game", "saves")
    dice = random.Random(3)

    def change() -> None:
        for number in dice.sample(range(_SAVES), _CHANGED):
            with open(os.path.join(saves, f"s{number // 100}", f"{number}.sav"), "wb") as file:
                file.write(dice.randbytes(20_000))
        os.sync()

    def change_and_forget() -> None:
        change()
        last = sorted(each for each in os.listdir(world.root) if each.startswith("copy-"))
        for each in last[:-1]:
            shutil.rmtree(world.path(each))
        os.sync()

    ours = Command("rellum backup", [rellum, "backup"], world.path("pack"), change)
    previous = "prev=$(ls -d copy-* 2>/dev/null | sort | tail -1)"
    rsync = (
        f'{previous}; rsync -a ${{prev:+--link-dest="$PWD/$prev"}} game/saves/ '
        f"copy-$(date +%s%N)/ && sync"
    )
    other = Command("rsync -a --link-dest", ["sh", "-c", rsync], world.root, change_and_forget)
    yield compare(f"backup of {_SAVES:,} saves, {_CHANGED} changed", ours, other, 1, 7)
    ours = Command("rellum backup", [rellum, "backup"], world.path("pack"))
    yield compare(
        "backup, nothing changed", ours, Command("rellum --help", [rellum, "--help"]), 1.5, 9
    )
    for words in (["status"], ["history"], ["variant", "list"]):
        ours = Command(f"rellum {words[0]}", [rellum, *words], world.path("pack"))
        beside = Command("rellum --help", [rellum, "--help"])
        yield compare(f"rellum {' '.join(words)}", ours, beside, 1.5, 9)


def _with_saves(root: str, rellum: str) -> BenchWorld:
    folder = os.path.join(root, "saves")
    made = os.path.isdir(folder)
    world = BenchWorld(folder, rellum)
    os.environ["RELLUM_SHELF"] = world.path("shelf")
    _name_saves(world)
    if not made:
        dice = random.Random(5)
        for number in range(_SAVES):
            inside = world.path("game", "saves", f"s{number // 100}")
            os.makedirs(inside, exist_ok=True)
            with open(os.path.join(inside, f"{number}.sav"), "wb") as file:
                file.write(dice.randbytes(20_000))
        with zipfile.ZipFile(world.path("one.zip"), "w") as archive:
            archive.writestr("one.dat", b"one")
        world.add_card("one", world.path("one.zip"), 'to = "@mods/"')
        for words in ("adopt ../game", "take ../one.zip", "want one", "apply --yes", "backup"):
            world.run(*words.split())
    return world


def _name_saves(world: BenchWorld) -> None:
    """Let the sheet say where the saves are."""
    sheet = world.path("catalog", "games", "bench.toml")
    with open(sheet, encoding="utf-8") as file:
        text = file.read()
    if "saves" not in text:
        with open(sheet, "w", encoding="utf-8") as file:
            file.write(text.replace("[places]\n", '[places]\nsaves = "@game/saves"\n'))


def variant(root: str, rellum: str) -> Iterator[Comparison]:
    """Switching a mod of 1,000 files, 2 GB, in a game of 100,000 files, beside ``cp`` of these and sync."""
    folder = os.path.join(root, "variants")
    made = os.path.isdir(folder)
    world = BenchWorld(folder, rellum)
    os.environ["RELLUM_SHELF"] = world.path("shelf")
    new = world.path("new")
    if not made:
        world.fill_game(100_000, 40)
        dice = random.Random(9)
        os.makedirs(new)
        with zipfile.ZipFile(world.path("big.zip"), "w", zipfile.ZIP_STORED) as archive:
            for number in range(1_000):
                content = dice.randbytes(2_147_483)
                archive.writestr(f"{number}.dat", content)
                with open(os.path.join(new, f"{number}.dat"), "wb") as file:
                    file.write(content)
        world.add_card("big", world.path("big.zip"), 'to = "@mods/big/"')
        for words in ("adopt ../game", "take ../big.zip", "want big", "apply --yes"):
            world.run(*words.split())

    def vanilla() -> None:
        world.run("variant", "use", "vanilla", "--yes")
        os.sync()

    def no_copy() -> None:
        shutil.rmtree(world.path("copied"), ignore_errors=True)
        os.sync()

    switch = [rellum, "variant", "use", "main", "--yes"]
    ours = Command("rellum variant use", switch, world.path("pack"), vanilla)
    other = Command("cp -r, sync", ["sh", "-c", "cp -r new copied && sync"], world.root, no_copy)
    yield compare("switching 1,000 of 100,000 files, 2 GB", ours, other, 1.3, 3)
