"""A real kind of step: a release that edits hundreds of files of a tar, beside the tools in a shell loop."""

from __future__ import annotations

import difflib
import hashlib
import os
import random
import shutil
import subprocess
import tarfile
import zipfile
from collections.abc import Iterator

from benchmarks.measure import Command, Comparison, compare
from benchmarks.worlds import BenchWorld

MEMBERS, EDITS = 1086, 397
LOOP = """\
set -e
rm -rf out && mkdir out && tar -xzf full.tgz -C out
for name in $(cat diffs.txt); do patch -s out/$name patches/$name.diff; done
for name in $(cat vcdiffs.txt); do
  xdelta3 -d -f -s out/$name patches/$name.vcdiff out/$name.new && mv out/$name.new out/$name
done
for name in $(cat zstds.txt); do
  zstd -q -f -d --patch-from=out/$name patches/$name.zst -o out/$name.new && mv out/$name.new out/$name
done
sync
"""


def edits(root: str, rellum: str) -> Iterator[Comparison]:
    """397 edits (diffs, VCDIFF, zstd) over a tgz of 1,086 members, all made and laid."""
    world = BenchWorld(os.path.join(root, "edits"), rellum)
    os.environ["RELLUM_SHELF"] = world.path("shelf")
    os.environ["RELLUM_CACHE"] = world.path("cache")
    if not os.path.exists(world.path("full.tgz")):
        _make(world)

    def back() -> None:
        world.run("restore", "--all", "--yes")
        shutil.rmtree(world.path("pack", ".rellum"))
        os.unlink(world.path("pack", "rellum.lock"))
        for words in ("adopt ../game", "resolve"):
            world.run(*words.split())
        subprocess.run(["sync"], check=True)

    ours = Command("rellum apply", [rellum, "apply", "--yes"], world.path("pack"), back)
    other = Command("tar, patch, xdelta3, zstd", ["sh", "-c", LOOP], world.root)
    yield compare("397 edits over a tgz of 1,086", ours, other, 2, 5)


def _make(world: BenchWorld) -> None:
    dice = random.Random(7)
    with open(world.path("game", "game.bin"), "wb") as file:
        file.write(b"game")
    texts = {f"text/t{n}.txt": _text(dice) for n in range(MEMBERS // 2)}
    blobs = {
        f"data/d{n}.bin": dice.randbytes(dice.randint(2_000, 90_000)) for n in range(MEMBERS // 2)
    }
    with tarfile.open(world.path("full.tgz"), "w:gz") as tar:
        for name, content in {**texts, **blobs}.items():
            path = world.path("source", *name.split("/"))
            _write(path, content)
            tar.add(path, name)
    changed = dice.sample(sorted(texts), EDITS - 198) + dice.sample(sorted(blobs), 198)
    says, by_kind = [], {"diff": [], "vcdiff": [], "zst": []}  # type: ignore[var-annotated]
    for number, name in enumerate(changed):
        old = {**texts, **blobs}[name]
        kind = "diff" if name in texts else ("vcdiff", "zst")[number % 2]
        new = _changed(old, dice, text=name in texts)
        _write(world.path("new", *name.split("/")), new)
        _patch(world, name, kind)
        by_kind[kind].append(name)
        form = {"zst": "zstd"}.get(kind, kind)
        says.append(
            f'[[release.edit]]\nfile = "@game/{name}"\nby = "{form}"\nwith = "{name}.{kind}"\n'
            f'gives = "{hashlib.sha256(new).hexdigest()}"\n'
        )
    for kind, names in by_kind.items():
        _write(world.path(f"{kind.replace('zst', 'zstd')}s.txt"), "\n".join(names).encode())
    with zipfile.ZipFile(world.path("patch.zip"), "w", zipfile.ZIP_DEFLATED) as archive:
        for folder, _, names in os.walk(world.path("patches")):
            for name in names:
                path = os.path.join(folder, name)
                archive.write(path, os.path.relpath(path, world.path("patches")))
    _write(world.path("catalog", "cards", "mod.toml"), _card(world, "".join(says)).encode())
    for words in ("adopt ../game", "take ../full.tgz", "take ../patch.zip", "want mod", "resolve"):
        world.run(*words.split())


def _card(world: BenchWorld, says: str) -> str:
    files = "".join(
        f'[[release.file]]\nname = "{name}"\nsize = {os.path.getsize(world.path(name))}\n'
        f'sha256 = "{_sha256(world.path(name))}"\n'
        for name in ("full.tgz",)
    )
    patch = f'name = "patch.zip"\nsize = {os.path.getsize(world.path("patch.zip"))}\n'
    return (
        '[mod]\nid = "mod"\nname = "Mod"\n[[release]]\nversion = "1"\n'
        f'{files}[[release.place]]\nto = "@game/"\n'
        '[[release]]\nversion = "1.1"\npatches = "1"\n'
        f'[[release.file]]\n{patch}sha256 = "{_sha256(world.path("patch.zip"))}"\n{says}'
    )


def _sha256(path: str) -> str:
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _text(dice: random.Random) -> bytes:
    lines = (f"line {number} {dice.random():.12f}\n" for number in range(dice.randint(50, 900)))
    return "".join(lines).encode()


def _changed(old: bytes, dice: random.Random, *, text: bool) -> bytes:
    if text:
        lines = old.splitlines(keepends=True)
        for _ in range(5):
            lines[dice.randrange(len(lines))] = b"another line %d\n" % dice.randrange(10**9)
        return b"".join(lines)
    at = dice.randrange(len(old))
    return old[:at] + dice.randbytes(300) + old[at:]


def _patch(world: BenchWorld, name: str, kind: str) -> None:
    old, new = world.path("source", *name.split("/")), world.path("new", *name.split("/"))
    target = world.path("patches", *f"{name}.{kind}".split("/"))
    os.makedirs(os.path.dirname(target), exist_ok=True)
    if kind == "diff":
        with open(old) as a, open(new) as b:
            lines = difflib.unified_diff(a.readlines(), b.readlines(), name, name)
            _write(target, "".join(lines).encode())
    elif kind == "vcdiff":
        subprocess.run(["xdelta3", "-e", "-f", "-S", "none", "-s", old, new, target], check=True)
    else:
        words = ["zstd", "-q", "-f", f"--patch-from={old}", new, "-o", target]
        subprocess.run(words, check=True)


def _write(path: str, content: bytes) -> None:
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "wb") as file:
        file.write(content)
