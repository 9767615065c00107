"""The files of vanilla Fathomline, any version, edition and set of expansions, made by code."""

from __future__ import annotations

import importlib.resources
import io
import random
import zipfile
import zlib
from collections.abc import Sequence

VERSIONS = ("1.4.2", "1.5.0", "1.6.0", "1.7.0")
EDITIONS = ("boxed", "harbour")
EXPANSIONS = ("ice-charts", "deep-trench")

HEADER = b"FATHOMLINE DATA\n"

_DATA = {
    "data/sea.dat": 180_000,
    "data/cables.dat": 120_000,
    "data/ships/layer.dat": 90_000,
    "data/ships/tender.dat": 60_000,
    "data/ships/survey.dat": 60_000,
    "maps/north-shelf.map": 240_000,
    "maps/old-strait.map": 200_000,
    "maps/atoll.map": 160_000,
    "textures/water.tex": 220_000,
    "textures/sky.tex": 200_000,
    "textures/bed.tex": 180_000,
    "textures/hull.tex": 90_000,
    "sounds/winch.snd": 80_000,
    "sounds/gulls.snd": 70_000,
    "sounds/sonar.snd": 40_000,
}
_NEW_IN = {"1.5.0": {"maps/atoll.map"}, "1.6.0": {"sounds/sonar.snd", "data/ships/survey.dat"}}
_EXPANSION_DATA = {
    "ice-charts": {"charts.dat": 150_000, "floes.map": 110_000},
    "deep-trench": {"trench.map": 170_000, "pressure.dat": 60_000},
}


def data_file(source: str, name: str, size: int, salt: str = "") -> bytes:
    """Return a data file of the game: its header, who made it, and bytes that no packer shrinks."""
    head = HEADER + source.encode() + b"\n"
    seed = zlib.crc32(f"{source}/{name}/{salt}".encode())
    return head + random.Random(seed).randbytes(size - len(head))


def game_files(
    version: str, edition: str = "boxed", expansions: Sequence[str] = ("ice-charts",)
) -> dict[str, bytes]:
    """Return the vanilla game: content by path, paths joined by slashes."""
    files = {
        name: data_file("Fathomline", name, size, _last_changed(name, version))
        for name, size in _DATA.items()
        if _is_in(name, version)
    }
    for expansion in expansions:
        for name, size in _EXPANSION_DATA[expansion].items():
            path = f"expansions/{expansion}/{name}"
            files[path] = data_file("Fathomline", path, size)
    listed = sorted(files)
    files |= {"data/core.pak": _core(version), **_harbours(version)}
    program = importlib.resources.files("rellum.demo").joinpath("game_files", "fathomline.py")
    files |= {
        "fathomline.py": program.read_bytes(),
        "version.txt": f"Fathomline\nversion: {version}\nedition: {edition}\n".encode(),
        "data/manifest.txt": "".join(f"{name}\n" for name in listed).encode(),
        "mods/read-me.txt": b"Mods go here, each in a folder of its own.\n",
        "settings.ini": b"[view]\nwaves = high\nfog = on\n\n[sound]\nloudness = 70\n",
        "updates.txt": b"look for updates: daily\n",
        "text/en.txt": b"lay = Lay cable\nraise = Raise cable\nsplice = Splice\n",
    }
    return files


def _harbours(version: str) -> dict[str, bytes]:
    """Return the game's harbours: old versions have one less, and nothing to sing there."""
    found: dict[str, bytes] = {}
    for name, told in (("north", "the quay in the north"), ("strait", "a pier in the old strait")):
        if name == "north" and version == VERSIONS[0]:
            continue
        for file in ("quay.map", "lamps.tex"):
            path = f"harbours/{name}/{file}"
            found[path] = data_file("Fathomline", path, 30_000)
        found[f"harbours/{name}/about.txt"] = f"{told}\n".encode()
        if version != VERSIONS[0]:
            found[f"harbours/{name}/song.snd"] = data_file("Fathomline", f"{name}/song", 20_000)
    return found


def _core(version: str) -> bytes:
    """Return the container in which the game keeps its core: a zip, signed."""
    members = {
        "maps/lagoon.map": data_file("Fathomline", "lagoon.map", 60_000, version),
        "maps/reef.map": data_file("Fathomline", "reef.map", 50_000, version),
        "text/menu.txt": b"begin = Begin\nlook = Look around\nleave = Leave\n",
    }
    signature = f"{zlib.crc32(b''.join(members[name] for name in sorted(members))):08x}"
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as archive:
        for name, content in {**members, "signs/core.sig": signature.encode()}.items():
            info = zipfile.ZipInfo(name, date_time=(2024, 5, 1, 12, 0, 0))
            info.create_system = 3
            archive.writestr(info, content)
    return stream.getvalue()


def _is_in(name: str, version: str) -> bool:
    return all(
        VERSIONS.index(version) >= VERSIONS.index(since)
        for since, names in _NEW_IN.items()
        if name in names
    )


def _last_changed(name: str, version: str) -> str:
    """Return the version that last changed a file: about a third change with each."""
    changed = [
        each
        for each in VERSIONS[: VERSIONS.index(version) + 1]
        if zlib.crc32(f"{name} {each}".encode()) % 3 == 0
    ]
    return changed[-1] if changed else VERSIONS[0]


SHEET = """\
# How to know Fathomline, and what is where in it.

[game]
id = "fathomline"
name = "Fathomline"
marks = ["@game/fathomline.py", "@game/data/manifest.txt"]
own-files = ["@game/logs/**"]       # the game writes these itself: no drift
store-files = ["@game/updates.txt"]  # by these, the game's store updates it
versions = ["1.4.2", "1.5.0", "1.6.0", "1.7.0"]

[play]                              # how it starts, and how its log is read
program = "@game/fathomline.py"
log = "@game/logs/last-start.log"
works = '^ready'
breaks = '^FAILED'
loaded = '^mod +(?P<mod>\\S+) (?P<version>.+)$'
failed = '^FAILED +(?P<mod>[a-z0-9-]+)'

[places]
mods = "@game/mods"
data = "@game/data"
textures = "@game/textures"
sounds = "@game/sounds"
maps = "@game/maps"
harbours = "@game/harbours"
saves = "@game/saves"                   # the player's own
settings = "{documents}/Fathomline"     # outside the game folder; a pack may name another

[load-order]
file = "@game/load-order.txt"
form = "lines"
entries = ["@mods/*"]

[[container]]
file = "@data/*.pak"
drop = ["signs/*.sig"]              # the game refuses a container that is not as it was signed

[[version]]
file = "@game/version.txt"
pattern = '^version: (?P<version>[0-9.]+)$'

[[edition]]
id = "boxed"
name = "Boxed edition"
file = "@game/version.txt"
pattern = '^edition: boxed$'

[[edition]]
id = "harbour"
name = "Harbour edition"
file = "@game/version.txt"
pattern = '^edition: harbour$'

# Their files are known, by plain sums.
[[baseline]]
version = "1.6.0"
edition = "boxed"
expansions = ["ice-charts"]
sha256 = "../baselines/1.6.0.sha256"

[[baseline]]
version = "1.7.0"
edition = "boxed"
expansions = ["ice-charts"]
sha256 = "../baselines/1.7.0.sha256"

[[expansion]]
id = "ice-charts"
name = "Ice Charts"
file = "@game/expansions/ice-charts/charts.dat"

[[expansion]]
id = "deep-trench"
name = "Deep Trench"
file = "@game/expansions/deep-trench/trench.map"
"""
