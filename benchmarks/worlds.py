"""Game folders and mods of a given size, made by code, with a catalog for them."""

from __future__ import annotations

import hashlib
import os
import random
import shutil
import subprocess
import zipfile

from benchmarks import catalogs

SHEET = """\
[game]
id = "bench"
name = "Bench"
marks = ["@game/version.txt"]
[places]
mods = "@game/mods"
[[version]]
file = "@game/version.txt"
pattern = 'version: (?P<version>[0-9.]+)'
"""


class BenchWorld:
    """Game, catalog, shelf and pack in one folder."""

    def __init__(self, root: str, rellum: str) -> None:
        self.root, self.rellum = root, rellum
        for name in ("game", "catalog/games", "catalog/cards", "shelf", "pack"):
            os.makedirs(self.path(name), exist_ok=True)
        if not os.path.exists(self.path("game", "version.txt")):  # a new time would be a change
            with open(self.path("game", "version.txt"), "w", encoding="utf-8") as file:
                file.write("version: 1.0.0\n")
        with open(self.path("catalog", "games", "bench.toml"), "w", encoding="utf-8") as file:
            file.write(SHEET)

    def path(self, *parts: str) -> str:
        """Return a path in the world."""
        return os.path.join(self.root, *parts)

    def fill_game(self, files: int, size: int) -> None:
        """Make the game's files, each of ``size`` bytes, a hundred to a folder."""
        source = random.Random(7)
        for number in range(files):
            folder = self.path("game", f"d{number // 5000}", f"s{number // 100}")
            if number % 100 == 0:
                os.makedirs(folder)
            with open(os.path.join(folder, f"file_{number}.dat"), "wb") as file:
                file.write(b"%d " % number + source.randbytes(size))

    def add_card(self, mod: str, archive: str, place: str) -> None:
        """Write the card of a mod with one release in one archive."""
        with open(archive, "rb") as file:
            digest = hashlib.file_digest(file, "sha256").hexdigest()
        with open(self.path("catalog", "cards", f"{mod}.toml"), "w", encoding="utf-8") as file:
            file.write(
                f'[mod]\nid = "{mod}"\nname = "{mod}"\n[[release]]\nversion = "1"\n'
                f'[[release.file]]\nname = "{os.path.basename(archive)}"\nsha256 = "{digest}"\n'
                f"[[release.place]]\n{place}\n"
            )

    def run(self, *words: str) -> None:
        """Run rellum in the pack. Raises CalledProcessError."""
        subprocess.run(
            [self.rellum, *words], cwd=self.path("pack"), check=True, stdout=subprocess.DEVNULL
        )

    def forget_pack(self) -> None:
        """Undo an adoption, so that it can be made again."""
        shutil.rmtree(self.path("pack", ".rellum"), ignore_errors=True)
        for path in (self.path("pack", "rellum.toml"), self.path("game", ".rellum-owner.toml")):
            if os.path.exists(path):
                os.unlink(path)


def deflated_zip(path: str, files: int, size: int) -> None:
    """Make a zip of files that deflate about as game data does: a third noise, the rest words."""
    source = random.Random(5)
    words = [source.randbytes(source.randint(2, 6)).hex().encode() for _ in range(3000)]
    blocks = [
        b"".join(
            source.randbytes(200)
            if source.random() < 0.3
            else b" ".join(source.choices(words, k=60))
            for _ in range(size * 2 // 350)
        )
        for _ in range(40)
    ]
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for number in range(files):
            block = blocks[number % len(blocks)]
            start = source.randrange(max(1, len(block) - size))
            archive.writestr(
                f"m/d{number // 100}/f{number}.dat", b"%d" % number + block[start:][:size]
            )


def make_match_world(root: str, rellum: str, *, impossible: bool = False) -> BenchWorld:
    """Make a game and a pack for a generated catalog: 2,000 mods of 15 releases, 300 of them wanted.

    ``impossible``: two of the wants cannot be had together, by a chain of seven mods between them.
    """
    generated = catalogs.make_world(2000, 15, 300, 1000)
    if impossible:
        catalogs.add_impossible_chain(generated)
    is_new = not os.path.isdir(os.path.join(root, "pack"))
    world = BenchWorld(root, rellum)
    versions = ", ".join(f'"{each}"' for each in catalogs.GAME_VERSIONS)
    sheet = SHEET.replace("marks =", f"versions = [{versions}]\nmarks =")
    with open(world.path("catalog", "games", "bench.toml"), "w", encoding="utf-8") as file:
        file.write(sheet)  # the world has just written one without versions
    if is_new:
        with open(world.path("game", "version.txt"), "w", encoding="utf-8") as file:
            file.write(f"version: {catalogs.GAME_VERSIONS[catalogs.GAME]}\n")
        catalogs.write_catalog(generated, world.path("catalog"))
        world.run("adopt", "../game")
        with open(world.path("pack", "rellum.toml"), "a", encoding="utf-8") as file:
            file.writelines(f'{catalogs.name(mod)} = "*"\n' for mod in generated.wants)
    return world
