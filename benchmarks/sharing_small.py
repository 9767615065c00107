"""Two successive versions of a package with 20,000 small files, published and followed.

``python -m benchmarks.sharing_small [PACKAGE OLD NEW]`` gets both wheels with pip, presses each as a release
of one mod in .bench/sharing_small, and prints what an update costs beside a patch for each changed file.
"""

from __future__ import annotations

import filecmp
import json
import os
import shutil
import subprocess
import sys
import zipfile
from typing import Any, Final

from benchmarks.measure import Command, run_once
from benchmarks.sharing import RELLUM, SharingWorld, served

_PACKAGE: Final = ("ansible", "11.1.0", "11.2.0")


def main() -> None:
    """Make the world, measure, and print."""
    package, old, new = sys.argv[1:] or _PACKAGE
    root = os.path.abspath(os.path.join(".bench", "sharing_small"))
    shutil.rmtree(root, ignore_errors=True)
    world = SharingWorld(root, 0)
    os.environ["RELLUM_SHELF"] = world.path("shelf")
    trees = [_unpacked(world, package, version) for version in (old, new)]
    fingerprint = _first_version(world, old)
    with served(world.path("feed")) as address:
        shutil.copytree(world.path("vanilla"), world.path("player", "game"))
        os.makedirs(world.path("player", "pack"))
        first = ("--game", "../game", "--trust", fingerprint, "--yes")
        world.said("player/pack", "shelf2", "follow", address, *first)
        _press(world, new)
        _pack(world, "resolve", "--fresh")
        _pack(world, "apply", "--yes")
        _pack(world, "publish", "../feed")
        _print_update(world, address, trees)


def _unpacked(world: SharingWorld, package: str, version: str) -> str:
    """Return the folder of a version's files."""
    wheels, tree = world.path("wheels"), world.path("trees", version)
    words = ["download", "--quiet", "--no-deps", "--only-binary=:all:", "--dest", wheels]
    subprocess.run([sys.executable, "-m", "pip", *words, f"{package}=={version}"], check=True)
    (wheel,) = (each for each in os.listdir(wheels) if f"-{version}-" in each)
    with zipfile.ZipFile(os.path.join(wheels, wheel)) as archive:
        archive.extractall(tree)
    return tree


def _pack(world: SharingWorld, *words: str) -> Any:
    return world.said("pack", "shelf", *words)


def _press(world: SharingWorld, version: str) -> None:
    folder = world.path("trees", version)
    words = ("--mod", "small", "--version", version, "--into", "@mods/", "--licence", "MIT")
    _pack(world, "press", folder, *words)


def _first_version(world: SharingWorld, version: str) -> str:
    """Press, lay and publish the older version; return the feed's fingerprint."""
    shutil.copytree(world.path("game"), world.path("vanilla"))
    _pack(world, "adopt", "../game")
    _press(world, version)
    _pack(world, "want", "small")
    _pack(world, "apply", "--yes")
    return str(_pack(world, "publish", "../feed", "--keys")["fingerprint"])


def _print_update(world: SharingWorld, address: str, trees: list[str]) -> None:
    os.environ["RELLUM_SHELF"] = world.path("shelf2")
    told = world.path("told.json")
    words = ["sh", "-c", f"exec {RELLUM} follow --yes --json > {told}"]
    run = run_once(Command("follow", words, world.path("player", "pack")))
    with open(told, encoding="utf-8") as file:
        said = json.load(file)
    changed, came, best = _patched(world, *trees)
    received = said["received_bytes"]
    print(f"files: {changed:,} changed, {came:,} new")
    print(f"bytes of the update: {received:,} in {said['request_count']} requests; zstd -9, --patch-from "
          f"where a file changed: {best:,}: {received / best:.3f} (limit 1.2)")  # fmt: skip
    shutil.copytree(trees[0], world.path("rsynced"))
    delta = max(os.listdir(world.path("feed", "deltas")))
    script = (
        f"curl -s {address}/deltas/{delta} -o fetched && "
        f"rsync -a --delete --checksum {trees[1]}/ rsynced/ && sync"
    )
    other = run_once(Command("rsync", ["sh", "-c", script], world.root))
    print(f"time of the update: {run.seconds:.2f} s, {run.megabytes:.0f} MB; curl and rsync "
          f"{other.seconds:.2f} s: {run.seconds / other.seconds:.2f} (limit 1.5)")  # fmt: skip


def _patched(world: SharingWorld, old: str, new: str) -> tuple[int, int, int]:
    """Return how many files changed and came, and what the tool needs for each of them in bytes."""
    out = world.path("patch.zst")
    changed = came = size = 0
    for folder, _, names in os.walk(new):
        for name in names:
            after = os.path.join(folder, name)
            before = os.path.join(old, os.path.relpath(after, new))
            words = ["zstd", "-qq", "-f", "-9", after, "-o", out]
            if os.path.isfile(before):
                if filecmp.cmp(before, after, shallow=False):
                    continue
                words.append(f"--patch-from={before}")
                changed += 1
            else:
                came += 1
            subprocess.run(words, check=True)
            size += os.path.getsize(out)
    return changed, came, size


if __name__ == "__main__":
    main()
