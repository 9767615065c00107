"""A pack of 2 GB published and followed: bytes and requests of an update, and times beside plain tools.

``python -m benchmarks.sharing [MEGABYTES]`` makes the world in .bench/sharing and prints its figures.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import sys
import time
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from benchmarks.measure import Command, Run, run_once
from benchmarks.worlds import BenchWorld

RELLUM = os.path.join(os.path.dirname(sys.executable), "rellum")
MODS = 40
_LARGE, _SMALL = 1 << 20, 20_000


class SharingWorld(BenchWorld):
    """A curator's world whose mods are stored zips, large and small files in each; and a player's."""

    def __init__(self, root: str, megabytes: int, mods: int = MODS) -> None:
        self.is_new = not os.path.isdir(root)
        super().__init__(root, RELLUM)
        os.environ.update(
            RELLUM_KEY_PASSWORD="high tide at noon",
            RELLUM_KEYS=self.path("keys"),
            RELLUM_CACHE=self.path("cache"),
        )
        self.mods = mods
        self.larges = max(1, megabytes // mods * 7 // 8)
        self.smalls = max(1, (megabytes // mods << 20) // 8 // _SMALL)

    def make(self) -> None:
        """Make all mods, lay them, and publish."""
        for number in range(self.mods):
            self.make_mod(number, "1", {})
        for words in (
            "adopt ../game",
            "take ../mods --each --by move",
            "want --shelf",
            "apply --yes",
        ):
            self.run(*words.split())

    def make_mod(self, number: int, version: str, edits: dict[int, int]) -> str:
        """Write a mod's archive, with so many bytes changed in some of its files; return where it is."""
        os.makedirs(self.path("mods"), exist_ok=True)
        file = self.path("mods", f"m{number}-{version}.zip")
        dice = random.Random(number)
        with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as archive:
            for each in range(self.larges + self.smalls):
                content = dice.randbytes(_LARGE if each < self.larges else _SMALL)
                if size := edits.get(each):
                    other = random.Random(f"{number} {each} {version}")
                    at = other.randrange(max(1, len(content) - size))
                    content = content[:at] + other.randbytes(size) + content[at + size :]
                info = zipfile.ZipInfo(f"f{each}.dat", (2024, 5, 1, 12, 0, 0))
                archive.writestr(info, content)
        self.add_release(f"m{number}", version, file)
        return file

    def add_release(self, mod: str, version: str, archive: str) -> None:
        """Add a release to a card."""
        card = self.path("catalog", "cards", f"{mod}.toml")
        place = f'to = "@mods/{mod}/"'
        before = ""
        if os.path.exists(card):
            with open(card, encoding="utf-8") as file:
                before = file.read().partition("[[release]]")[2]
        self.add_card(mod, archive, place)
        with open(card, encoding="utf-8") as file:
            text = file.read().replace('version = "1"', f'version = "{version}"')
        text = text.replace("[[release]]", 'licence = "MIT"\n[[release]]', 1)
        with open(card, "w", encoding="utf-8") as out:
            out.write(text + (f"[[release]]{before}" if before else ""))

    def move(self, version: str, edits: dict[int, dict[int, int]]) -> list[tuple[str, str]]:
        """Bring newer releases of some mods into the pack; return the old and the new archives."""
        pairs = []
        for number, changed in edits.items():
            new = self.make_mod(number, version, changed)
            old = self.path("old", f"m{number}.zip")
            os.makedirs(os.path.dirname(old), exist_ok=True)
            shutil.copyfile(new, old)  # what the tools are given, beside what rellum takes
            pairs.append((self.make_old(number), old))
        for words in ("take ../mods --each --by move", "resolve --fresh", "apply --yes"):
            self.run(*words.split())
        return pairs

    def make_old(self, number: int) -> str:
        """Write a mod's first archive once more, for tools that have no shelf."""
        path = self.path("old", f"m{number}-old.zip")
        if not os.path.exists(path):
            file = self.make_mod_file(number)
            shutil.move(file, path)
        return path

    def make_mod_file(self, number: int) -> str:
        """Write the archive of the first release alone, without its card."""
        card = self.path("catalog", "cards", f"m{number}.toml")
        with open(card, encoding="utf-8") as file:
            text = file.read()
        made = self.make_mod(number, "1", {})
        with open(card, "w", encoding="utf-8") as out:
            out.write(text)
        return made

    def said(self, folder: str, shelf: str, *words: str) -> Any:
        """Run rellum with ``--json`` somewhere, and return its document."""
        environment = {**os.environ, "RELLUM_SHELF": self.path(shelf)}
        done = subprocess.run(
            [RELLUM, *words, "--json"], cwd=self.path(folder), env=environment, capture_output=True
        )
        if done.returncode:
            raise RuntimeError(done.stderr.decode())
        return json.loads(done.stdout)


@contextmanager
def served(folder: str, rate: int = 0) -> Iterator[str]:
    """Serve a folder, with no more than so many bytes a second if that is stated; give its address."""
    words = [sys.executable, "-m", "benchmarks.file_server", folder, str(rate)]
    server = subprocess.Popen(words, stdout=subprocess.PIPE, text=True)
    assert server.stdout is not None
    try:
        yield server.stdout.readline().strip()
    finally:
        server.kill()
        server.wait()


def main() -> None:
    """Make the world, measure, and print."""
    megabytes = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    root = os.path.abspath(os.path.join(".bench", "sharing"))
    shutil.rmtree(root, ignore_errors=True)
    world = SharingWorld(root, megabytes)
    os.environ["RELLUM_SHELF"] = world.path("shelf")
    world.make()
    began = time.perf_counter()
    first = world.said("pack", "shelf", "publish", "../feed", "--keys")
    print(f"first version: {first['content_bytes']:,} bytes in {time.perf_counter() - began:.1f} s")
    _against_check(world)
    shutil.copytree(
        world.path("game"), world.path("vanilla"), ignore=shutil.ignore_patterns("mods", ".rellum*")
    )
    with served(world.path("feed")) as address:
        _follow(world, address, first["fingerprint"], megabytes)


def _against_check(world: SharingWorld) -> None:
    """Publishing the same again, beside a check of the game."""
    again = Command("publish", [RELLUM, "publish", "../feed"], world.path("pack"))
    check = Command("check", [RELLUM, "check"], world.path("pack"))
    pairs = [(run_once(again), run_once(check)) for _ in range(7)]
    ratio = sorted(a.seconds / b.seconds for a, b in pairs)[3]
    print(f"publishing the same again: {ratio:.2f} times 'rellum check' (limit 1.5), "
          f"{pairs[0][0].seconds:.2f} s")  # fmt: skip


def _follow(world: SharingWorld, address: str, fingerprint: str, megabytes: int) -> None:
    os.makedirs(world.path("player", "pack"))
    shutil.copytree(world.path("vanilla"), world.path("player", "game"))
    world.said(
        "player/pack",
        "shelf2",
        "follow",
        address,
        "--game",
        "../game",
        "--trust",
        fingerprint,
        "--yes",
    )
    changed = megabytes // 100 << 20
    edits = {n: dict.fromkeys(range(4), changed // 32) for n in range(8)}
    shutil.copytree(world.path("game", "mods"), world.path("rsynced"))
    pairs = world.move("2", edits)
    began = time.perf_counter()
    second = world.said("pack", "shelf", "publish", "../feed")
    print(
        f"second version: {second['written_bytes']:,} bytes written in {time.perf_counter() - began:.1f} s"
    )
    best = sum(_patch_bytes(world, *pair) for pair in pairs)
    environment = {**os.environ, "RELLUM_SHELF": world.path("shelf2")}
    words = ["env", *(f"{k}={v}" for k, v in environment.items() if k.startswith("RELLUM")), RELLUM]
    run = run_once(Command("follow", [*words, "follow", "--yes"], world.path("player", "pack")))
    delta = max(os.listdir(world.path("feed", "deltas")))
    other = _curl_and_rsync(world, address, delta)
    print(f"time of the update: {run.seconds:.2f} s, {run.megabytes:.0f} MB; curl and rsync "
          f"{other.seconds:.2f} s: {run.seconds / other.seconds:.2f} (limit 1.5)")  # fmt: skip
    _least(world, address, delta)
    said = _received(world, address)
    print(f"bytes of the update: {said['received_bytes']:,} in {said['request_count']} requests; zstd -9 "
          f"--patch-from of each: {best:,}: {said['received_bytes'] / best:.3f} (limit 1.2)")  # fmt: skip
    whole = sum(os.path.getsize(new) for _, new in pairs)
    print(f"the changed archives whole: {whole:,} bytes")


def _least(world: SharingWorld, address: str, delta: str) -> None:
    """The least that can be done, beside curl and rsync: whether the limit can be reached at all."""
    words = [sys.executable, "-m", "benchmarks.sharing_least", address, str(32 << 20)]
    least = Command("the least", words)
    pairs = []
    for _ in range(5):
        for number in range(8):
            for name in range(4):  # so that rsync copies them again
                os.utime(world.path("rsynced", f"m{number}", f"f{name}.dat"), (0, 0))
        pairs.append((run_once(least).seconds, _curl_and_rsync(world, address, delta).seconds))
    ratios = sorted(ours / theirs for ours, theirs in pairs)
    print(f"verifying, fetching and writing alone: {pairs[0][0]:.2f} s, "
          f"{ratios[0]:.2f} to {ratios[-1]:.2f} times curl and rsync")  # fmt: skip


def _received(world: SharingWorld, address: str) -> Any:
    """Follow once more from the first version: another player, who tells what came."""
    shutil.rmtree(world.path("player"))
    os.makedirs(world.path("player", "pack"))
    shutil.copytree(world.path("vanilla"), world.path("player", "game"))
    shutil.rmtree(world.path("shelf2"))
    first = ("--game", "../game", "--version", "1", "--yes")
    with open(world.path("feed", "metadata", "1.root.json"), "rb") as file:
        from rellum.core.feed.feed_keys import sayable_root

        trust = sayable_root(file.read())
    world.said("player/pack", "shelf2", "follow", address, *first, "--trust", trust)
    return world.said("player/pack", "shelf2", "follow", "--yes")


def _patch_bytes(world: SharingWorld, old: str, new: str) -> int:
    """Return how long the patch of one archive by the tool is."""
    out = world.path("old", "patch.zst")
    words = ["zstd", "-q", "-f", "-9", "--long=27", f"--patch-from={old}", new, "-o", out]
    subprocess.run(words, check=True)
    return os.path.getsize(out)


def _curl_and_rsync(world: SharingWorld, address: str, delta: str) -> Run:
    """Fetch the same bytes, and lay what changed over the files of the version before."""
    script = f"curl -s {address}/deltas/{delta} -o delta && rsync -a game/mods/ rsynced/ && sync"
    return run_once(Command("curl, rsync", ["sh", "-c", script], world.root))


if __name__ == "__main__":
    main()
