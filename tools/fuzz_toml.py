"""Damage sheets, cards, packs, line-ups and lists, and read them: ``python -m tools.fuzz_toml SECONDS SEED``.

The whole ones are those of ``docs/files.md``, which has every key. Beside bytes, whole values are made
other: numbers of any length, deep nesting, patterns with many stars, regular expressions that explode,
paths with NUL, texts that steer a terminal.
"""

from __future__ import annotations

import os
import random
import re
import sys
import tempfile
from collections.abc import Callable
from functools import partial

from rellum.core.actions.gather.vet import vet_catalog
from rellum.core.archives.checksums import read_checksums
from rellum.core.change.request import Request
from rellum.core.fetching.metalink import ListedFile, metalink_text, read_metalink
from rellum.core.folder.baselines import parse_sums
from rellum.core.pack.home import PackHome
from rellum.core.pack.lock_file import read_lock
from rellum.core.pack.pack_file import read_pack_file
from tests.support import World
from tools.fuzzing import Round, damaged, fuzz

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
HOSTILE = (
    "9" * 5000, "-1", "0", "1e999", "nan", "true", "''", '"' + "a" * 100_000 + '"', "[" * 3000 + "]" * 3000,
    "{a={a={a={a=1}}}}", "[" + "'@game/**'," * 5000 + "]", "'(a+)+$'", "'(?P<version>(a|a)*)$'",
    "'" + "**/" * 3000 + "'", "'" + "*a" * 3000 + "'", '"@game/a\\u0000b"', '"\\u001b[2J\\u202e"',
    "'@game/../../x'", "'>=1 | " * 2000 + "'", "'" + "1." * 3000 + "0'", "1979-05-27T07:32:00Z",
    "'${name.x}'", "'file:///etc/passwd'", "'http://[::1'", "'=\ud800'", "['@game/a', 1]", "{}", "'{home}'",
    "[[[]]]", "'1.².*'", "'²'", "²",
)  # fmt: skip


def examples() -> dict[str, bytes]:
    """Return what docs/files.md shows: sheet, card, trials and pack."""
    with open(os.path.join(ROOT, "docs", "files.md"), encoding="utf-8") as file:
        blocks = re.findall(r"```toml\n(.*?)```", file.read(), re.DOTALL)
    sheet, own_words, *others = blocks
    return dict(
        zip(
            ("sheet", "card", "trials", "pack"),
            (each.replace("…", "0" * 64).encode() for each in (sheet + own_words, *others)),
            strict=True,
        )
    )


def other_value(content: bytes, source: random.Random) -> bytes:
    """Return a text in which one value or key is another."""
    places = list(re.finditer(rb"(?m)^[^#\n=]*= *(.+?)(?: *#.*)?$", content))
    if not places or source.random() < 0.1:
        return content + source.choice(HOSTILE).encode("utf-8", "surrogatepass") + b" = 1\n"
    place = source.choice(places)
    value = source.choice(HOSTILE).encode("utf-8", "surrogatepass")
    return content[: place.start(1)] + value + content[place.end(1) :]


class Readers:
    """What reads each kind of file, in a folder."""

    def __init__(self, folder: str) -> None:
        world = World(os.path.join(folder, "world"))
        world.add_release("sonar", "1.0", {"mods/sonar/s": b"s"})
        world.adopt()
        world.take_all()
        world.want("sonar")
        world.resolve()
        self.catalog = os.path.join(folder, "catalog")
        self.pack = PackHome(os.path.join(folder, "pack"))
        for name in ("catalog/games", "catalog/cards", "pack"):
            os.makedirs(os.path.join(folder, name))
        with open(world.path("pack", "rellum.lock"), "rb") as file:
            lock = file.read()
        listed = ListedFile(
            name="a.zip", size=3, sha256="0" * 64, urls=("https://a.example/a.zip",)
        )
        sums = b"".join(b"%064x *mods/a%d.dat\n" % (number, number) for number in range(20))
        self.whole = {
            **examples(),
            "line-up": lock,
            "list of downloads": metalink_text([listed]).encode(),
            "sums": sums,
            "checksums": sums,
        }
        self.files = {
            "sheet": os.path.join(self.catalog, "games", "fathomline.toml"),
            "card": os.path.join(self.catalog, "cards", "tidal-currents.toml"),
            "trials": os.path.join(self.catalog, "trials.toml"),
            "pack": self.pack.pack_file,
            "line-up": self.pack.lock_file,
            "list of downloads": os.path.join(folder, "a.meta4"),
            "sums": os.path.join(folder, "a.sha256"),
            "checksums": os.path.join(folder, "b.sha256"),
        }
        request = Request(pack_folder=self.pack.folder)
        vet = partial(vet_catalog, request, (self.catalog,), "fathomline")
        self.read: dict[str, Callable[[], object]] = {
            "sheet": vet,
            "card": vet,
            "trials": vet,
            "pack": lambda: read_pack_file(self.pack),
            "line-up": lambda: read_lock(self.pack),
            "list of downloads": lambda: read_metalink(self.files["list of downloads"]),
            "sums": lambda: parse_sums(self.files["sums"]),
            "checksums": lambda: read_checksums(self.files["checksums"]),
        }
        for kind in self.files:
            self.write(kind, self.whole[kind])
        for read in self.read.values():
            read()  # raises where a whole one cannot be read

    def write(self, kind: str, content: bytes) -> None:
        with open(self.files[kind], "wb") as file:
            file.write(content)


def main() -> int:
    """Fuzz for a time; 1 where something other than a clear error came of it."""
    with tempfile.TemporaryDirectory() as folder:
        os.environ["RELLUM_CACHE"] = os.path.join(folder, "cache")
        readers = Readers(folder)

        def make(source: random.Random) -> Round:
            for kind in ("sheet", "card", "trials", "pack"):
                readers.write(kind, readers.whole[kind])
            kind = source.choice(sorted(readers.whole))
            content = readers.whole[kind]
            if kind in ("sheet", "card", "trials", "pack", "line-up") and source.random() < 0.6:
                for _ in range(source.randint(1, 2)):
                    content = other_value(content, source)
            else:
                content = damaged(content, source)
            readers.write(kind, content)
            return Round(kind, content, readers.read[kind])

        return fuzz(make)


if __name__ == "__main__":
    sys.exit(main())
