"""Made-up games drawn at random: sheets, places, versions, mods, and games that are modded already."""

from __future__ import annotations

import hashlib
import os
import random
from dataclasses import dataclass, field

from blake3 import blake3

from tests.support import write_tree, zip_bytes
from tests.truth import kinds

Tree = dict[str, bytes]


@dataclass
class Mod:
    """A mod: its files by place path; ``settings`` are merged with the user's changes."""

    id: str
    files: Tree
    settings: str = ""
    edits: str = ""
    carry: str = ""
    obsolete: str = ""
    removed: tuple[str, ...] = ()
    options: dict[str, Tree] = field(default_factory=dict)
    members: Tree = field(default_factory=dict)

    @property
    def contents(self) -> list[bytes]:
        """All that it may bring."""
        return [c for tree in (self.files, *self.options.values()) for c in tree.values()]

    def brings(self, chosen: str) -> Tree:
        """Return the files that it brings with a choice of its option."""
        return {**self.files, **self.options.get(chosen or "low", {})}


@dataclass
class World:
    """A game of which two versions are known to the test, whatever the catalog knows of them."""

    root: str
    dice: random.Random
    versions: dict[str, Tree] = field(default_factory=dict)
    mods: dict[str, Mod] = field(default_factory=dict)
    known: set[str] = field(default_factory=set)
    places: dict[str, str] = field(default_factory=dict)
    sheet: str = ""
    own: tuple[str, ...] = ()
    modded: Tree = field(default_factory=dict)
    stated: bool = False
    depth: str = ""
    graft: Mod | None = None

    def path(self, *parts: str) -> str:
        return os.path.join(self.root, *parts)

    @property
    def variables(self) -> dict[str, str]:
        return {
            "HOME": self.path("home"),
            "RELLUM_SHELF": self.path("shelf"),
            "RELLUM_CACHE": self.path("cache"),
            "XDG_CONFIG_HOME": self.path("home", ".config"),
            "XDG_DATA_HOME": self.path("home", ".data"),
        }

    def file(self, path: str) -> str:
        """Return where a path lies: ``@settings/x``, or from the game folder."""
        if path.startswith("@"):
            name, _, rest = path[1:].partition("/")
            return os.path.join(self.path("home", "Documents", self.places[name]), rest)
        return self.path("game", path)

    def is_outside(self, place: str) -> bool:
        return place in self.places


def draw(root: str, seed: int) -> World:
    """Draw a world and write it."""
    world = World(root, random.Random(seed))
    _draw_sheet(world)
    _draw_versions(world)
    world.sheet = world.sheet.replace("[places]\n", kinds.sheet_lines(world) + "[places]\n")
    _draw_mods(world)
    _write(world)
    return world


def _draw_sheet(world: World) -> None:
    dice = world.dice
    lines, places = [], []
    world.stated = dice.random() < 0.15
    settings = dice.choice(("outside", "inside", "none", "outside"))
    if settings == "outside":
        world.places["settings"] = "Gale"
        places.append('settings = "{documents}/Gale"')
    elif settings == "inside":
        places.append('settings = "@game/cfg"')
    saves = dice.choice(("outside", "nested", "inside", "none"))
    if saves == "outside" or (saves == "nested" and settings != "outside"):
        world.places["saves"] = "Gale Saves"
        places.append('saves = "{documents}/Gale Saves"')
    elif saves == "nested":
        world.places["saves"] = os.path.join("Gale", "saved")
        places.append('saves = "{documents}/Gale/saved"')
    elif saves == "inside":
        places.append('saves = "@game/saved"')
        world.own += ("saved/",)
    if dice.random() < 0.6:
        places.append('mods = "@game/mods"')
    if dice.random() < 0.3:
        world.places["extra"] = "Gale Extra"
        places.append('extra = "{documents}/Gale Extra"')
    if dice.random() < 0.5:
        lines.append('own-files = ["@game/logs/**"]')
        world.own += ("logs/",)
    if dice.random() < 0.4:
        lines.append('carry = ["@game/mine/**"]')
        world.own += ("mine/",)
    version = (
        ""
        if world.stated
        else ('[[version]]\nfile = "@game/version.txt"\npattern = "gale (?P<version>[0-9.]+)"\n')
    )
    world.sheet = (
        '[game]\nid = "gale"\nname = "Gale"\nmarks = ["@game/gale.bin"]\n'
        + "\n".join(lines)
        + "\n[places]\n"
        + "\n".join(places)
        + f"\n{version}"
    )


def _draw_versions(world: World) -> None:
    dice = world.dice
    first: Tree = {"gale.bin": b"gale program", "version.txt": b"gale 1.0\n"}
    for number in range(dice.randint(5, 14)):
        folder = dice.choice(("", "data/", "data/deep/", "art/"))
        first[f"{folder}f{number}.dat"] = b"vanilla %d\n" % number * dice.randint(1, 40)
    kinds.draw_vanilla(world, first)
    first["game.ini"] = b"[sound]\nvolume = 5\n[view]\nfar = 10\n"
    if 'settings = "@game/cfg"' in world.sheet:
        first["cfg/options.ini"] = b"[a]\nx = 1\ny = 2\n"
    second = dict(first)
    plain = [path for path in first if path.endswith(".dat")]
    for path in dice.sample(plain, min(len(plain), dice.randint(2, 5))):
        second[path] = first[path] + b"of 1.1\n"
    second["version.txt"] = b"gale 1.1\n"
    second["data/new.dat"] = b"new in 1.1\n"
    if dice.random() < 0.4:
        del second[dice.choice([path for path in plain if second[path] == first[path]] or plain)]
    world.versions = {"1.0": first, "1.1": second}
    for version in world.versions:
        if dice.random() < 0.6 or world.stated:
            world.known.add(version)


def _draw_mods(world: World) -> None:
    dice = world.dice
    plain = [path for path in world.versions["1.0"] if path.endswith(".dat")]
    dice.shuffle(plain)
    for number in range(dice.randint(2, 4)):
        mod = f"mod{number}"
        files = {
            f"mods/{mod}/{name}.dat": dice.randbytes(dice.randint(1, 900))
            for name in ("a", "b", "sub/c")[: dice.randint(1, 3)]
        }
        if plain and dice.random() < 0.7:
            files[plain.pop()] = dice.randbytes(dice.randint(1, 500))
        made = Mod(mod, files)
        outside = [name for name in ("extra", "settings") if world.is_outside(name)]
        if outside and dice.random() < 0.5:
            files[f"@{dice.choice(outside)}/{mod}/out.dat"] = dice.randbytes(80)
        if dice.random() < 0.4:
            made.settings = f"mods/{mod}/set.ini"
            files[made.settings] = b"[a]\nkey = 1\nother = 2\n"
        if dice.random() < 0.4:
            made.carry = f"mods/{mod}/yours/"
        if dice.random() < 0.4:
            made.obsolete = f"mods/{mod}/old/"
        if dice.random() < 0.4:
            made.edits = dice.choice(
                ["game.ini", *(["@settings/profile.ini"] * (world.is_outside("settings")))]
            )
        world.mods[mod] = made
    kinds.draw_kinds(world, plain)
    edited = [each.edits for each in world.mods.values()]
    for each in world.mods.values():
        if edited.count(each.edits) > 1:
            each.edits = ""


def place_path(path: str) -> str:
    """Return a path as cards write it."""
    return path if path.startswith("@") else f"@game/{path}"


def _card(mod: Mod, archive: bytes) -> str:
    text = (
        f'[mod]\nid = "{mod.id}"\nname = "{mod.id}"\n[[release]]\nversion = "1"\n'
        + (f'carry = ["@game/{mod.carry}**"]\n' if mod.carry else "")
        + (f'obsolete = ["@game/{mod.obsolete}**"]\n' if mod.obsolete else "")
        + (f'[release.settings]\n"@game/{mod.settings}" = "merge"\n' if mod.settings else "")
        + f'[[release.file]]\nname = "{mod.id}.zip"\nsize = {len(archive)}\n'
        f'sha256 = "{hashlib.sha256(archive).hexdigest()}"\n'
    )
    if mod.id == "wrap":
        return f'{text}[[release.place]]\ntake = "**"\nto = "@game/mods/wrap/"\n'
    roots = {place_path(path).partition("/")[0] for path in mod.files}
    for root in sorted(roots):
        text += f'[[release.place]]\ntake = "{root[1:]}/**"\nto = "{root}/"\n'
    if mod.edits:
        text += (
            f'[[release.edit]]\nfile = "{place_path(mod.edits)}"\nby = "keys"\n'
            f'set = {{ sound = {{ volume = "9" }} }}\n'
        )
    return text + kinds.card_lines(mod)


def _archive(mod: Mod) -> bytes:
    if mod.id == "wrap":
        return zip_bytes({"wrap/w.dat": next(iter(mod.files.values()))})
    files = {place_path(path)[1:]: content for path, content in mod.files.items()}
    return zip_bytes(files | kinds.members_of(mod))


def _write(world: World) -> None:
    dice = world.dice
    sheet = world.sheet
    for version in sorted(world.known):
        form = dice.choice(("blake3", "sha256"))
        sheet += f'[[baseline]]\nversion = "{version}"\n{form} = "../known/{version}"\n'
        lines = [
            f"{digest(content, form)}  {path}\n"
            for path, content in sorted(world.versions[version].items())
        ]
        write_tree(world.path("catalog", "known"), {version: "".join(lines).encode()})
    write_tree(world.path("catalog"), {"games/gale.toml": sheet.encode()})
    for mod in world.mods.values():
        archive = _archive(mod)
        write_tree(world.path("downloads"), {f"{mod.id}.zip": archive})
        write_tree(world.path("catalog", "cards"), {f"{mod.id}.toml": _card(mod, archive).encode()})
    if dice.random() < 0.3:
        write_tree(
            world.path("catalog", "cards"), {"broken.toml": b'[mod]\nid = "broken"\nnmae = 1\n'}
        )
    write_tree(world.path("game"), world.versions["1.0"])
    if dice.random() < 0.4:
        os.makedirs(world.path("game", "mods"), exist_ok=True)
    for name in ("pack", "shelf", "home/Documents"):
        os.makedirs(world.path(*name.split("/")), exist_ok=True)
    if dice.random() < 0.4:
        world.modded = {"mods/elder/e.dat": b"an old mod", "data/extra.dat": b"left by hand"}
        if dice.random() < 0.5:
            plain = [path for path in world.versions["1.0"] if path.endswith(".dat")]
            world.modded[dice.choice(plain)] = b"changed long ago"
        write_tree(world.path("game"), world.modded)
    if "@settings/profile.ini" in {mod.edits for mod in world.mods.values()} or world.is_outside(
        "settings"
    ):
        target = world.file("@settings/profile.ini")
        write_tree(
            os.path.dirname(target), {"profile.ini": b"[sound]\nvolume = 3\n[me]\nname = x\n"}
        )


def digest(content: bytes, form: str) -> str:
    """Return a hash as lists of known files have it."""
    return blake3(content).hexdigest() if form == "blake3" else hashlib.sha256(content).hexdigest()
