"""Fathomline's stand-in: starts as a game would, writes its log, fails as a game would.

It reads the folder it lies in and needs nothing but Python. Exit status 0: it started.
"""

import configparser
import pathlib
import re
import sys
import zipfile
import zlib

HERE = pathlib.Path(__file__).resolve().parent
HEADER = b"FATHOMLINE DATA\n"


class StartFailed(Exception):
    """What a player would see as a crash."""


def read_version():
    text = (HERE / "version.txt").read_text(encoding="utf-8")
    found = dict(re.findall(r"^(\w+): (.+)$", text, re.MULTILINE))
    return found["version"], found["edition"]


def number(text):
    return tuple(int(part) for part in text.split("."))


def check_data():
    for line in (HERE / "data" / "manifest.txt").read_text(encoding="utf-8").splitlines():
        path = HERE / line
        if not path.is_file():
            raise StartFailed(f"{line} is missing")
        with path.open("rb") as file:
            if file.read(len(HEADER)) != HEADER:
                raise StartFailed(f"{line} is damaged")
            source = file.readline().decode("utf-8", "replace").strip()
        if source != "Fathomline":
            yield f"{line} from {source}"


def check_core():
    """Look at the core's container: what it holds must be what it was signed for, if it is signed."""
    path = HERE / "data" / "core.pak"
    try:
        with zipfile.ZipFile(path) as core:
            members = {name: core.read(name) for name in sorted(core.namelist())}
    except (OSError, zipfile.BadZipFile) as error:
        raise StartFailed("data/core.pak is missing or damaged") from error
    signature = members.pop("signs/core.sig", None)
    sum_of_all = f"{zlib.crc32(b''.join(members.values())):08x}".encode()
    if signature is not None and signature != sum_of_all:
        raise StartFailed("data/core.pak is not as it was signed")
    for name, content in members.items():
        source = content[len(HEADER) :].split(b"\n")[0].decode("utf-8", "replace")
        if name.endswith(".map") and source != "Fathomline":
            yield f"{name} from {source}"


def harbours():
    for folder in sorted((HERE / "harbours").glob("*")):
        about = (folder / "about.txt").read_text(encoding="utf-8").strip()
        silent = "" if (folder / "song.snd").is_file() else ", without its song"
        yield f"{folder.name}: {about}{silent}"


def read_mods(version):
    mods = {}
    for about in sorted((HERE / "mods").glob("*/about.ini")):
        parser = configparser.ConfigParser()
        parser.read(about, encoding="utf-8")
        mod = dict(parser["mod"])
        low, high = mod["game"].split()
        if not number(low) <= number(version) < number(high):
            raise StartFailed(f"{mod['id']} {mod['version']} is for game {low} to {high}")
        for file in filter(None, mod.get("files", "").split()):
            if not (about.parent / file).is_file():
                raise StartFailed(f"{mod['id']}: {file} is missing")
        mods[mod["id"]] = mod
    return mods


def place_in_order(mod_id):
    try:
        order = (HERE / "load-order.txt").read_text(encoding="utf-8").split()
    except OSError:
        return 0
    return order.index(mod_id) if mod_id in order else len(order)


def in_load_order(mods):
    order = []

    def load(mod_id, needed_by):
        if mod_id not in mods:
            raise StartFailed(f"{needed_by} needs {mod_id}, which is not there")
        if mod_id in order:
            return
        for need in mods[mod_id].get("needs", "").split():
            load(need, mod_id)
        order.append(mod_id)

    for mod_id in sorted(mods, key=lambda mod: (place_in_order(mod), mod)):
        load(mod_id, "the game")
    for mod_id in order:
        for other in mods[mod_id].get("clashes", "").split():
            if other in mods:
                raise StartFailed(f"{mod_id} and {other} cannot sail together")
    return [mods[mod_id] for mod_id in order]


def start():
    version, edition = read_version()
    yield f"Fathomline {version}, {edition} edition"
    for expansion in sorted(each.name for each in (HERE / "expansions").glob("*")):
        yield f"expansion  {expansion}"
    for line in check_data():
        yield f"data       {line}"
    for line in check_core():
        yield f"core       {line}"
    for line in harbours():
        yield f"harbour    {line}"
    mods = in_load_order(read_mods(version))
    for mod in mods:
        yield f"mod        {mod['id']} {mod['version']}"
    yield f"ready, {len(mods)} mods, the sea is calm" if mods else "ready, vanilla, the sea is calm"


def main():
    lines = []
    status = 0
    try:
        for line in start():
            lines.append(line)
    except (StartFailed, OSError, KeyError, ValueError) as error:
        lines.append(f"FAILED     {error}")
        status = 1
    print("\n".join(lines))
    (HERE / "logs").mkdir(exist_ok=True)
    (HERE / "logs" / "last-start.log").write_text("\n".join(lines) + "\n", encoding="utf-8")
    return status


if __name__ == "__main__":
    sys.exit(main())
