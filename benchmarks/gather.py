"""Taking archives in, beside the tools that look them through; fetching, beside curl."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator

from benchmarks.measure import Command, Comparison, compare
from benchmarks.worlds import BenchWorld, deflated_zip

_FILES, _SIZE = 20_000, 170_000


def take(root: str, rellum: str) -> Iterator[Comparison]:
    """A zip of 2 GB beside ``unzip -t``, and a 7z of the same files' first tenth beside ``7z t``."""
    world = _gather_world(root, rellum)
    for archive, tool, limit, runs in (
        ("big.zip", ["unzip", "-tq"], 0.5, 3),
        ("some.7z", ["7z", "t"], 3, 3),
    ):
        size = os.path.getsize(world.path(archive)) / 1e9
        ours = Command(
            "rellum take",
            [rellum, "take", os.path.join("..", archive)],
            world.path("pack"),
            lambda: _empty_shelf(world),
        )
        other = Command(" ".join(tool), [*tool, archive], world.root)
        yield compare(f"take {archive}, {size:.2f} GB", ours, other, limit, runs)


def fetch(root: str, rellum: str) -> Iterator[Comparison]:
    """The 2 GB zip from a server on this machine, beside curl and then sha256sum."""
    world = _gather_world(root, rellum)
    server = subprocess.Popen(
        [sys.executable, "-m", "benchmarks.file_server", world.root],
        stdout=subprocess.PIPE,
        text=True,
    )
    assert server.stdout is not None
    address = server.stdout.readline().strip()
    try:
        _card_for_fetch(world, f"{address}/big.zip")
        world.run("resolve")
        ours = Command(
            "rellum fetch", [rellum, "fetch"], world.path("pack"), lambda: _empty_shelf(world)
        )
        script = f"curl -s -o got.zip {address}/big.zip && sha256sum got.zip"
        other = Command("curl, sha256sum", ["sh", "-c", script], world.root)
        yield compare("fetch big.zip", ours, other, 1.3, 3)
    finally:
        server.terminate()
        server.wait()


def _gather_world(root: str, rellum: str) -> BenchWorld:
    folder = os.path.join(root, "gather")
    made = os.path.exists(os.path.join(folder, "some.7z"))
    world = BenchWorld(folder, rellum)
    os.environ["RELLUM_SHELF"] = world.path("shelf")
    if not made:
        deflated_zip(world.path("big.zip"), _FILES, _SIZE)
        subprocess.run(["unzip", "-q", "big.zip", "m/d?/*", "-d", "some"], cwd=folder, check=True)
        # The files repeat after 7 MB: a dictionary that cannot see so far packs them as different ones.
        subprocess.run(["7z", "a", "-bd", "-mx5", "-md=1m", "some.7z", "some"], cwd=folder, check=True,
                       stdout=subprocess.DEVNULL)  # fmt: skip
        shutil.rmtree(world.path("some"))
        _card_for_fetch(world, "https://files.example.invalid/big.zip")
        world.run("adopt", "../game")
        world.run("want", "big")
    return world


def _card_for_fetch(world: BenchWorld, url: str) -> None:
    path = world.path("big.zip")
    with open(path, "rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    with open(world.path("catalog", "cards", "big.toml"), "w", encoding="utf-8") as file:
        file.write(
            '[mod]\nid = "big"\nname = "Big"\n[[release]]\nversion = "1"\n'
            f'[[release.file]]\nname = "big.zip"\nsize = {os.path.getsize(path)}\n'
            f'sha256 = "{digest}"\nfrom = ["{url}"]\n'
            '[[release.place]]\ntake = "m/**"\nto = "@mods/"\n'
        )


def _empty_shelf(world: BenchWorld) -> None:
    shutil.rmtree(world.path("shelf"), ignore_errors=True)
    os.makedirs(world.path("shelf"))
    os.sync()
