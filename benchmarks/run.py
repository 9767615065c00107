"""Whole commands beside what a user would run instead: ``python -m benchmarks.run [CASE...]``.

Cases: start, adopt, check, apply, restore, rewind, deep, over, match, impossible, catalog, lag, take, fetch,
container, patches, edits, planning, backup, variant. Data goes to
.bench and is used again. The tools that are compared with come from the system: b3sum, rsync, git,
unzip, p7zip-full, curl, xdelta3, zstd, python3-solv (Debian's packages of those names).
"""

from __future__ import annotations

import compileall
import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator

import rellum
from benchmarks import edits as editing
from benchmarks import gather as gathering
from benchmarks import going_back, laying, living
from benchmarks import match as matching
from benchmarks.measure import Command, Comparison, compare, missing_tools
from benchmarks.worlds import BenchWorld, deflated_zip

ROOT = os.path.abspath(".bench")
RELLUM = os.path.join(os.path.dirname(sys.executable), "rellum")
HELLO = """\
import typer
app = typer.Typer()
@app.command()
def main(name: str = "World"):
    print(f"Hello {name}")
if __name__ == "__main__":
    app()
"""
HEADINGS = ("what", "rellum", "beside", "its time", "ratio", "limit", "", "peak memory")


def start() -> Iterator[Comparison]:
    """``rellum --help`` beside a Typer hello world."""
    hello = os.path.join(ROOT, "hello.py")
    with open(hello, "w", encoding="utf-8") as file:
        file.write(HELLO)
    ours = Command("rellum --help", [RELLUM, "--help"])
    yield compare("start", ours, Command("hello world", [sys.executable, hello]), 1.3, 15)


def adopt() -> Iterator[Comparison]:
    """20,000 files, 2 GB, warm, beside b3sum of the same files."""
    made = os.path.isdir(os.path.join(ROOT, "adopt"))
    world = BenchWorld(os.path.join(ROOT, "adopt"), RELLUM)
    if not made:
        world.fill_game(20_000, 107_374)
    ours = Command(
        "rellum adopt", [RELLUM, "adopt", "../game"], world.path("pack"), world.forget_pack
    )
    hash_all = "find game -type f -print0 | xargs -0 b3sum"
    other = Command("b3sum", ["sh", "-c", hash_all], world.root)
    yield compare("adopt 20,000 files, 2 GB", ours, other, 2, 5)


def large_world() -> BenchWorld:
    """100,000 files with a mod of ten files over them, applied; a copy, and a git tree of them."""
    made = os.path.isdir(os.path.join(ROOT, "large"))
    world = BenchWorld(os.path.join(ROOT, "large"), RELLUM)
    os.environ["RELLUM_SHELF"] = world.path("shelf")
    if not made:
        world.fill_game(100_000, 40)
        import zipfile

        with zipfile.ZipFile(world.path("ten.zip"), "w", zipfile.ZIP_DEFLATED) as archive:
            for number in range(10):
                archive.writestr(
                    f"d3/s150/file_{15000 + number}.dat", b"changed %d\n" % number * 900
                )
        world.add_card("ten", world.path("ten.zip"), 'to = "@game/"')
        for words in ("adopt ../game", "take ../ten.zip", "want ten", "resolve", "apply --yes"):
            world.run(*words.split())
        shutil.copytree(world.path("game"), world.path("git"))
        git = ["git", "-c", "user.name=bench", "-c", "user.email=bench@example.invalid"]
        for words in ("init -q", "add -A", "commit -qm all"):
            subprocess.run([*git, *words.split()], cwd=world.path("git"), check=True)
    world.run("apply", "--yes")
    subprocess.run(["rsync", "-a", "--delete", world.path("game/"), world.path("copy")], check=True)
    return world


def check() -> Iterator[Comparison]:
    """Unchanged, 100,000 files, beside rsync -an against a copy and git status of the same."""
    world = large_world()
    ours = Command("rellum check", [RELLUM, "check"], world.path("pack"))
    rsync = Command("rsync -an", ["rsync", "-an", world.path("game/"), world.path("copy/")])
    yield compare("check 100,000 files", ours, rsync, 0.65, 21)
    git = Command("git status", ["git", "status"], world.path("git"))
    yield compare("check 100,000 files", ours, git, 2.5, 9)


def apply() -> Iterator[Comparison]:
    """A deflated zip of 10,000 files, 1 GB, beside unzip and sync."""
    made = os.path.isdir(os.path.join(ROOT, "apply"))
    world = BenchWorld(os.path.join(ROOT, "apply"), RELLUM)
    os.environ["RELLUM_SHELF"] = world.path("shelf")
    archive = world.path("big.zip")
    if not made:
        deflated_zip(archive, 10_000, 107_374)
        world.add_card("big", archive, 'take = "m/**"\nto = "@mods/"')
        for words in ("adopt ../game", "take ../big.zip", "want big", "resolve"):
            world.run(*words.split())

    def vanilla() -> None:
        world.run("restore", "--all", "--yes")
        os.sync()

    def no_copy() -> None:
        shutil.rmtree(world.path("unzipped"), ignore_errors=True)
        os.sync()

    ours = Command("rellum apply", [RELLUM, "apply", "--yes"], world.path("pack"), vanilla)
    unzip = "unzip -q -d unzipped big.zip && sync"
    other = Command("unzip, sync", ["sh", "-c", unzip], world.root, no_copy)
    yield compare("apply 10,000 files, 1 GB", ours, other, 1, 3)


def restore() -> Iterator[Comparison]:
    """Ten files of one mod among 100,000, beside ``rellum --help``."""
    world = large_world()
    ours = Command(
        "rellum restore",
        [RELLUM, "restore", "--mod", "ten", "--yes"],
        world.path("pack"),
        lambda: world.run("apply", "--yes"),
    )
    other = Command("rellum --help", [RELLUM, "--help"])
    yield compare("restore ten of 100,000 files", ours, other, 2, 9)


def match() -> Iterator[Comparison]:
    """Resolving a large catalog beside libsolv."""
    yield from matching.match(ROOT, RELLUM)


def impossible() -> Iterator[Comparison]:
    """A large catalog without a line-up, beside libsolv."""
    yield from matching.impossible(ROOT, RELLUM)


def catalog() -> Iterator[Comparison]:
    """Loading a large catalog, beside tomllib."""
    yield from matching.catalog(ROOT, RELLUM)


def lag() -> Iterator[Comparison]:
    """How far line-ups lag behind the newest, beside libsolv's; printed, as it is no time."""
    from benchmarks.lag import print_lags

    print_lags(ROOT, matching.SYSTEM_PYTHON)
    yield from ()


def take() -> Iterator[Comparison]:
    """Taking archives in, beside the tools that look them through."""
    yield from gathering.take(ROOT, RELLUM)


def fetch() -> Iterator[Comparison]:
    """Fetching from a server on this machine, beside curl."""
    yield from gathering.fetch(ROOT, RELLUM)


CASES: dict[str, Callable[[], Iterator[Comparison]]] = {
    "start": start,
    "adopt": adopt,
    "check": check,
    "apply": apply,
    "restore": restore,
    "rewind": lambda: going_back.rewind(large_world(), RELLUM),
    "deep": lambda: going_back.deep(ROOT, RELLUM),
    "over": lambda: going_back.over(ROOT, RELLUM),
    "match": match,
    "impossible": impossible,
    "catalog": catalog,
    "lag": lag,
    "take": take,
    "fetch": fetch,
    "container": lambda: laying.container(ROOT, RELLUM),
    "patches": lambda: laying.patches(ROOT),
    "edits": lambda: editing.edits(ROOT, RELLUM),
    "planning": laying.planning,
    "backup": lambda: living.backup(ROOT, RELLUM),
    "variant": lambda: living.variant(ROOT, RELLUM),
}


def main() -> int:
    """Run the cases named, or all; 1 if one is over its limit."""
    from rellum.cli import console

    if lacking := missing_tools(
        ["b3sum", "rsync", "git", "unzip", "7z", "curl", "xdelta3", "zstd"]
    ):
        print(f"install these first: {', '.join(lacking)}", file=sys.stderr)
        return 2
    if not matching.has_libsolv():
        print("install this first: python3-solv", file=sys.stderr)
        return 2
    os.makedirs(ROOT, exist_ok=True)
    # As pip does when it installs: a checkout may lie there without, where the environment forbids it.
    compileall.compile_dir(os.path.dirname(rellum.__file__), quiet=1)
    found: list[Comparison] = []
    for name in sys.argv[1:] or CASES:
        print(f"{name} …", file=sys.stderr, flush=True)
        found += CASES[name]()
    console.table(HEADINGS, [each.row() for each in found], right=(1, 3, 4, 5, 7))
    return 1 if any(each.ratio > each.limit for each in found) else 0


if __name__ == "__main__":
    sys.exit(main())
