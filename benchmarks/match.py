"""Matching on a generated catalog of 2,000 mods × 15 releases, 300 of them wanted.

Beside libsolv (Debian's python3-solv, run by the system's Python) and the standard library's tomllib.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator

from benchmarks import catalogs
from benchmarks.measure import Command, Comparison, compare
from benchmarks.worlds import BenchWorld, make_match_world

SYSTEM_PYTHON = "/usr/bin/python3"
PARSE = """\
import sys, tomllib
for file in open(sys.argv[1]).read().split("\\n"):
    with open(file, "rb") as stream:
        tomllib.load(stream)
"""
LOAD = """\
import gc, sys
gc.set_threshold(20_000_000)  # as the program does
from rellum.core.catalog.load import load_catalog
catalog = load_catalog([sys.argv[1]], "bench")
"""


def has_libsolv() -> bool:
    """Whether the system's Python has libsolv."""
    result = subprocess.run([SYSTEM_PYTHON, "-c", "import solv"], capture_output=True, check=False)
    return result.returncode == 0


def _prepare(root: str, name: str, rellum: str) -> tuple[BenchWorld, str]:
    folder = os.path.join(root, name)
    os.environ["RELLUM_CACHE"] = os.path.join(root, "cache")
    os.environ["RELLUM_SHELF"] = os.path.join(folder, "shelf")
    world = make_match_world(folder, rellum, impossible=name == "impossible")
    dumped = world.path("world.json")
    generated = catalogs.make_world(2000, 15, 300, 1000)
    if name == "impossible":
        catalogs.add_impossible_chain(generated)
    catalogs.dump(generated, dumped)
    return world, dumped


def _libsolv(dumped: str, status: int = 0) -> Command:
    words = [SYSTEM_PYTHON, "-m", "benchmarks.libsolv_world", dumped]
    return Command("libsolv", words, statuses=(status,))


def match(root: str, rellum: str) -> Iterator[Comparison]:
    """A line-up from nothing, and after one want changed."""
    world, dumped = _prepare(root, "match", rellum)
    pack = world.path("pack")
    first = Command("resolve", [rellum, "resolve", "--fresh"], pack)
    yield compare("resolve 300 wants", first, _libsolv(dumped), 1.0, 5)
    mods = catalogs.make_world(2000, 15, 300, 1000).wants
    changed = catalogs.name(mods[150])
    again = Command("resolve", [rellum, "resolve"], pack, lambda: _toggle(world, changed))

    def forget() -> None:
        shutil.rmtree(os.environ["RELLUM_CACHE"], ignore_errors=True)
        os.unlink(world.path("pack", "rellum.lock"))

    world.run("resolve")
    very_first = Command("the first time", [rellum, "resolve"], pack, forget)
    yield compare("resolve again, one want changed", again, very_first, 1 / 3, 5)
    yield compare("the same, beside cards in the cache", again, first, 1, 5)
    world.run("resolve", "--fresh")
    one = [rellum, "resolve", "--fresh"]
    yield compare(
        "outlook, 12 versions",
        Command("outlook", [rellum, "outlook", "--json"], pack),
        Command("one resolve", one, pack),
        4,
        3,
    )


def _toggle(world: BenchWorld, mod: str) -> None:
    """Change one want: between any version and all but the newest."""
    file = world.path("pack", "rellum.toml")
    with open(file, encoding="utf-8") as stream:
        text = stream.read()
    wide, narrow = f'{mod} = "*"', f'{mod} = "<2.4"'
    text = text.replace(wide, narrow) if wide in text else text.replace(narrow, wide)
    with open(file, "w", encoding="utf-8") as stream:
        stream.write(text)


def impossible(root: str, rellum: str) -> Iterator[Comparison]:
    """The same made impossible by a chain of seven mods between two wants."""
    world, dumped = _prepare(root, "impossible", rellum)
    ours = Command("resolve", [rellum, "resolve"], world.path("pack"), statuses=(1,))
    yield compare("a refusal with its remedies", ours, _libsolv(dumped, 1), 3, 5)


def catalog(root: str, rellum: str) -> Iterator[Comparison]:
    """Loading the cards: the first time, and unchanged."""
    world, _ = _prepare(root, "match", rellum)
    folder = world.path("catalog")
    cards = os.path.join(folder, "cards")
    listing = world.path("cards.txt")
    with open(listing, "w", encoding="utf-8") as file:
        file.write("\n".join(os.path.join(cards, name) for name in sorted(os.listdir(cards))))
    parse = Command("tomllib", [sys.executable, "-c", PARSE, listing])
    load = [sys.executable, "-c", LOAD, folder]

    def forget() -> None:
        shutil.rmtree(os.environ["RELLUM_CACHE"], ignore_errors=True)

    yield compare("load 2,000 cards", Command("load", load, before=forget), parse, 1, 3)
    yield compare("load again", Command("load", load), parse, 0.1, 5)
