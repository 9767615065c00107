"""Kinds of mods and packs beside plain files: options, members of containers, folders in folders, grafts."""

from __future__ import annotations

import io
import zipfile
from typing import TYPE_CHECKING

from tests.support import write_tree, zip_bytes

if TYPE_CHECKING:
    from tests.truth.world import Mod, Tree, World

CONTAINER = "data/pack.pak"
STORE_FILE = "update.list"
GRAFT = "strait"
SLOT = "art/"
DEPTHS = ("once", "twice", "")


def draw_vanilla(world: World, first: Tree) -> None:
    """Give the game a container and a file of its store, or none."""
    if world.dice.random() < 0.5:
        first[CONTAINER] = zip_bytes({"text/a.txt": b"vanilla a", "text/b.txt": b"vanilla b"})
    if world.dice.random() < 0.5:
        first[STORE_FILE] = b"the store's list\n"


def sheet_lines(world: World) -> str:
    """Return what the sheet says of the store's files."""
    has = STORE_FILE in world.versions["1.0"]
    return f'store-files = ["@game/{STORE_FILE}"]\n' if has else ""


def draw_kinds(world: World, plain: list[str]) -> None:
    """Give mods options and members; draw a mod that is wrapped in a folder of its own name, and a graft."""
    from tests.truth.world import Mod

    dice = world.dice
    for mod in world.mods.values():
        if dice.random() < 0.3:
            mod.options = {
                choice: {f"mods/{mod.id}/q.dat": dice.randbytes(60), **extra}
                for choice, extra in (
                    ("low", {}),
                    ("high", {f"mods/{mod.id}/more.dat": dice.randbytes(90)}),
                )
            }
        if CONTAINER in world.versions["1.0"] and dice.random() < 0.4:
            mod.members = {
                f"maps/{mod.id}.map": dice.randbytes(50),
                "text/b.txt": dice.randbytes(9),
            }
    if dice.random() < 0.4:
        world.depth = dice.choice(DEPTHS)
        inner = "wrap/" if world.depth == "twice" else ""
        world.mods["wrap"] = Mod("wrap", {f"mods/wrap/{inner}w.dat": dice.randbytes(70)})
    if dice.random() < 0.3 and any(path.startswith(SLOT) for path in world.versions["1.0"]):
        slot = [path for path in plain if path.startswith(SLOT)]
        donor = {f"{SLOT}g{n}.dat": dice.randbytes(40) for n in range(2)}
        if slot:
            donor[slot[0]] = dice.randbytes(30)
        world.graft = Mod(GRAFT, donor)
        write_tree(world.path("donor"), {p.removeprefix(SLOT): c for p, c in donor.items()})


def card_lines(mod: Mod) -> str:
    """Return what a card says of options and members."""
    text = ""
    for choice in mod.options:
        text += f'[[release.place]]\ntake = "{choice}/**"\nto = "@game/"\noptions = {{ q = "{choice}" }}\n'
    if mod.members:
        text += f'[[release.place]]\ntake = "pak/**"\nto = "@game/{CONTAINER}!/"\n'
    if mod.options:
        text += '[[option]]\nid = "q"\npick = "one"\ndefault = "low"\n'
        text += "".join(f'[[option.choice]]\nid = "{choice}"\n' for choice in mod.options)
    return text


def members_of(mod: Mod) -> Tree:
    """Return what an archive holds beside plain files."""
    found = {f"pak/{member}": content for member, content in mod.members.items()}
    for choice, files in mod.options.items():
        found |= {f"{choice}/{path}": content for path, content in files.items()}
    return found


def pack_lines(world: World) -> str:
    """Return what a curator writes into rellum.toml by hand."""
    text = ""
    if world.depth:
        text += f'\n[nested]\n"@game/mods/wrap" = "{world.depth}"\n'
    if world.graft:
        text += f'\n[[graft]]\nname = "{GRAFT}"\nslot = "@game/{SLOT}"\ndonor = "../donor"\ntake = "**"\n'
    return text


def unpacked(content: bytes) -> Tree | None:
    """Return the members of a container; None where it is none."""
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as opened:
            return {name: opened.read(name) for name in opened.namelist()}
    except zipfile.BadZipFile:
        return None
