"""Changing a container, applying binary patches and planning, beside general tools."""

from __future__ import annotations

import os
import random
import subprocess
import sys
import zipfile
from collections.abc import Iterator

from benchmarks.measure import Command, Comparison, compare
from benchmarks.planning import compare_planning
from benchmarks.worlds import BenchWorld

APPLY = """\
import sys
from rellum.core.patching.mapped import mapped
from rellum.core.patching.{module} import {function}
with mapped("old") as old, mapped(sys.argv[1]) as delta, open("ours", "w+b") as out:
    {function}(old, delta, out, sys.argv[1], 1 << 40)
"""
REBUILD = """\
import sys
from rellum.core.patching.container import rebuild
rebuild(sys.argv[1], {"maps/1000.map": sys.argv[2]}, lambda name: False, sys.argv[3], "core.pak")
"""


def container(root: str, rellum: str) -> Iterator[Comparison]:
    """One member changed in a container of 1 GB, beside ``cp`` of it.

    Once the rebuilding alone, with the hash of the result; once all that ``apply`` does: the original
    hashed and kept, and both flushed to the disk.
    """
    world = BenchWorld(os.path.join(root, "container"), rellum)
    os.environ["RELLUM_SHELF"] = world.path("shelf")
    os.environ["RELLUM_CACHE"] = world.path("cache")
    pak = world.path("game", "core.pak")
    if not os.path.exists(pak):
        source = random.Random(3)
        with zipfile.ZipFile(pak, "w", zipfile.ZIP_STORED) as archive:
            for number in range(2000):
                archive.writestr(f"maps/{number}.map", source.randbytes(500_000))
        with zipfile.ZipFile(world.path("mod.zip"), "w") as archive:
            archive.writestr("1000.map", b"another map " * 1000)
        world.add_card("mod", world.path("mod.zip"), 'to = "@game/core.pak!/maps/"')
        for words in ("adopt ../game", "take ../mod.zip", "want mod", "resolve"):
            world.run(*words.split())

    def back() -> None:
        world.run("restore", "--all", "--yes")
        subprocess.run(["sync"], check=True)

    rebuild = Command(
        "rebuild",
        [sys.executable, "-c", REBUILD, pak, world.path("mod.zip"), world.path("ours.pak")],
        world.root,
        lambda: _gone(world.path("ours.pak")),
    )
    copy = world.path("copy.pak")
    other = Command("cp", ["cp", pak, copy], world.root, lambda: _gone(copy))
    yield compare("one member in a 1 GB container", rebuild, other, 1.5, 7)
    ours = Command("rellum apply", [rellum, "apply", "--yes"], world.path("pack"), back)
    script = f"cp {pak} {copy} && sync"
    durably = Command("cp, then sync", ["sh", "-c", script], world.root, lambda: _gone(copy))
    yield compare("the same by rellum apply", ours, durably, 3, 5)


def _gone(path: str) -> None:
    if os.path.exists(path):
        os.unlink(path)
    subprocess.run(["sync"], check=True)


def patches(root: str) -> Iterator[Comparison]:
    """VCDIFF and zstd patches of a file of 200 MB, beside the tools that made them."""
    folder = os.path.join(root, "patches")
    if not os.path.isdir(folder):
        os.makedirs(folder)
        _make_patches(folder)
    for title, module, delta, tool, limit in (
        ("VCDIFF of 200 MB", "vcdiff", "d.vcdiff",
         ["xdelta3", "-d", "-f", "-s", "old", "d.vcdiff", "theirs"], 4),
        ("zstd patch of 200 MB", "zstd_patch", "d.zst",
         ["zstd", "-q", "-f", "-d", "--long=31", "--patch-from=old", "d.zst", "-o", "theirs"], 1.5),
    ):  # fmt: skip
        function = "apply_vcdiff" if module == "vcdiff" else "apply_zstd"
        script = APPLY.format(module=module, function=function)
        ours = Command("rellum", [sys.executable, "-c", script, delta], folder)
        yield compare(title, ours, Command(tool[0], tool, folder), limit, 7)


def _make_patches(folder: str) -> None:
    source = random.Random(1)
    blocks = [source.randbytes(65536) for _ in range(3200)]
    _write(os.path.join(folder, "old"), b"".join(blocks))
    for number in range(0, 3200, 40):
        blocks[number] = source.randbytes(65536)
    blocks.insert(100, source.randbytes(1000))
    _write(os.path.join(folder, "new"), b"".join(blocks))
    for words in (
        "xdelta3 -e -f -S none -s old new d.vcdiff",
        "zstd -q -f --long=31 --patch-from=old new -o d.zst",
    ):
        subprocess.run(words.split(), cwd=folder, check=True)


def _write(path: str, content: bytes) -> None:
    with open(path, "wb") as file:
        file.write(content)


def planning() -> Iterator[Comparison]:
    """The target of 200 mods with 200,000 paths, beside a dict of the paths, built and sorted."""
    yield compare_planning()
