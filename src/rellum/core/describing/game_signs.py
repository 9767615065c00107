"""What a game folder tells about itself: marks, versions, places, containers; each with its reason.

In: the folder's listing and a way to read a file. Out: guesses, the likeliest first. What no folder can tell
(which files are the player's own, for instance) is only suggested, for a person to confirm.
"""

from __future__ import annotations

import os
import re
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Final

from rellum.core.archives.forms import ENDINGS
from rellum.core.describing.expansions import alike_folders
from rellum.core.globs import literal

ReadHead = Callable[[str, int], bytes]
"""Returns the first bytes of a file, by its path below the game folder and their number."""

MOST_TEXT: Final = 256 << 10
MOST_PROGRAM: Final = 16 << 20
_MOST_TEXTS: Final = 400
_MOST_PROGRAMS: Final = 4
_MOST_LOOKED_AT: Final = 3000

_PROGRAM_MARKS: Final = (
    b"\x7fELF",
    b"MZ",
    b"\xcf\xfa\xed\xfe",
    b"\xce\xfa\xed\xfe",
    b"\xca\xfe\xba\xbe",
    b"#!",
)
_PROGRAM_ENDINGS: Final = (".exe", ".x86_64", ".bin", ".jar", ".py", ".sh", "")
_TEXT_NAME: Final = re.compile(
    r"\.(txt|md|ini|cfg|conf|json|xml|properties|toml|ya?ml|info|version|ver|html?)$"
    r"|^(version|changes|changelog|release|news|readme|build|about)[^/]*$",
    re.IGNORECASE,
)
_NUMBER: Final = r"[0-9]+(?:\.[0-9]+){1,3}(?:[a-z][0-9]*)?"
_VERSION_LINE: Final = re.compile(
    r"(?P<lead>.{0,40}?\b(?:version|release|ver|build)\b[^0-9\n]{0,12}?)"
    rf"v?(?P<version>{_NUMBER})(?![\w.]*\w)",
    re.IGNORECASE,
)
_BARE_LINE: Final = re.compile(
    rf"^(?P<lead>[#=*\[\s]*)v?(?P<version>{_NUMBER})(?![\w.])", re.MULTILINE
)
_CHANGING: Final = re.compile(r"\d\.\d|[.-][0-9a-f]{8,}\.")
"""Names that have a version or a hash in them, and are others after an update."""
_OF_FORM: Final = re.compile(r"<\?xml|<!doctype|xmlns|schema", re.IGNORECASE)
"""Begins a line that tells the version of a form, not of a game."""
_STRING: Final = re.compile(rb"[\x20-\x7e]{5,200}")
_FOR_MODS: Final = (
    "mods",
    "mod",
    "plugins",
    "plugin",
    "addons",
    "add-ons",
    "addon",
    "packs",
    "extensions",
)
_NOT_NAMES: Final = frozenset(
    ("game", "bin", "app", "client", "install", "files", "release", "program")
)
"""Names of folders that are no names of games."""

_CONTENT: Final = frozenset(
    (
        *_FOR_MODS,
        "data",
        "assets",
        "resources",
        "content",
        "levels",
        "maps",
        "engine",
        "runtime",
        "lib",
        "libs",
    )
)
WRITTEN_BY_GAME: Final = (
    "logs",
    "log",
    "cache",
    "caches",
    "crashes",
    "crash",
    "crashreports",
    "crashdumps",
    "dumps",
    "temp",
    "tmp",
)
"""Folders with such names hold what a game writes itself; no shipped file was found in them."""

PLAYERS: Final = (
    "saves",
    "savegames",
    "save",
    "saved",
    "savedgames",
    "worlds",
    "characters",
    "playerdata",
    "userdata",
    "replays",
    "screenshots",
    "settings",
    "config",
    "profiles",
)
"""Folders with such names often hold the player's own things, and sometimes shipped files: ask."""


@dataclass(frozen=True, slots=True, kw_only=True)
class GameFile:
    """A file below the game folder: its path there, its size in bytes, and whether it may be run."""

    path: str
    size: int
    is_executable: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class VersionSign:
    """A text that looks like the version, with the pattern that finds it and what it rests on.

    ``agrees``: a program of the game says the same.
    """

    version: str
    file: str
    line: int
    pattern: str
    reason: str
    points: int
    agrees: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class GameSigns:
    """All that a folder tells. ``strings`` are texts of its programs that name folders or versions.

    ``alike`` are folders of one shape with a folder beside them, or of a name for expansions.
    """

    id: str
    name: str
    marks: tuple[str, ...]
    versions: tuple[VersionSign, ...]
    places: tuple[tuple[str, str, str], ...]
    written_by_game: tuple[str, ...]
    players: tuple[str, ...]
    containers: tuple[str, ...]
    folds_case: bool
    strings: tuple[str, ...] = ()
    alike: tuple[str, ...] = ()


def signs_of(
    folder_name: str, files: Sequence[GameFile], folders: Iterable[str], read: ReadHead
) -> GameSigns:
    """Look at a game folder. ``folders`` are all its folders, by their paths below it."""
    programs = _programs(files, read)
    strings = _strings(programs, read)
    stem = folder_name
    if folder_name.lower() in _NOT_NAMES and programs:
        stem = os.path.splitext(os.path.basename(programs[0].path))[0]
    name = re.sub(r"[ _-]*v?\d+(\.\d+)+.*$", "", stem).replace("_", " ").strip() or stem
    folder_list = list(folders)
    return GameSigns(
        id=re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "game",
        name=name[:1].upper() + name[1:],
        marks=_marks(files, programs, name),
        versions=tuple(_versions(files, read, strings, name)),
        places=tuple(_places(folder_list, strings)),
        written_by_game=_named(folder_list, WRITTEN_BY_GAME),
        players=_named(folder_list, PLAYERS),
        containers=tuple(_containers(files, read)),
        folds_case=any(each.path.lower().endswith(".exe") for each in programs),
        strings=tuple(strings[:200]),
        alike=tuple(alike_folders(files)),
    )


def _programs(files: Sequence[GameFile], read: ReadHead) -> list[GameFile]:
    """Return the programs at the top of the folder, the largest first."""
    top = [each for each in files if each.path.count("/") <= 1 and each.size > 0]
    likely = [
        each
        for each in top
        if os.path.splitext(each.path)[1].lower() in _PROGRAM_ENDINGS or each.is_executable
    ]
    found = [each for each in likely[:400] if read(each.path, 4).startswith(_PROGRAM_MARKS)]
    found += [
        each for each in likely if each.path.lower().endswith((".jar", ".py")) and each not in found
    ]
    return sorted(found, key=lambda each: (each.path.count("/"), -each.size))


def _strings(programs: Sequence[GameFile], read: ReadHead) -> list[str]:
    """Return the printable texts of programs that name a version or a folder."""
    found: dict[str, None] = {}
    for each in programs[:_MOST_PROGRAMS]:
        content = read(each.path, MOST_PROGRAM)
        for match in _STRING.finditer(content):
            text = match[0].decode("ascii").strip()
            if re.search(rf"\b{_NUMBER}\b|[a-z]{{3,}}/", text) and len(found) < 4000:
                found[text] = None
    return list(found)


def _marks(files: Sequence[GameFile], programs: Sequence[GameFile], name: str) -> tuple[str, ...]:
    """Return a program and a big data file: stable, and in no other game."""
    words = re.sub(r"[^a-z0-9]", "", name.lower())

    def likeness(each: GameFile) -> tuple[bool, int]:
        stem = re.sub(r"[^a-z0-9]", "", os.path.splitext(os.path.basename(each.path))[0].lower())
        return (bool(stem) and (stem in words or words.startswith(stem[:4])), each.size)

    chosen = sorted(programs, key=likeness, reverse=True)[:1]
    data = [each for each in files if each not in programs and not _CHANGING.search(each.path)]
    data = [each for each in data if not _TEXT_NAME.search(os.path.basename(each.path))]
    biggest = sorted(data, key=lambda each: -each.size)[:1]
    return tuple(each.path for each in (*chosen, *biggest))


def _versions(
    files: Sequence[GameFile], read: ReadHead, strings: Sequence[str], name: str
) -> list[VersionSign]:
    """Return what looks like the version, the likeliest first; agreement between sources counts most."""
    texts = [
        each
        for each in files
        if each.path.count("/") <= 1
        and 0 < each.size <= MOST_TEXT
        and _TEXT_NAME.search(os.path.basename(each.path))
        and not set(each.path.lower().split("/")[:-1]) & _CONTENT
    ]
    signs = [
        sign
        for each in texts[:_MOST_TEXTS]
        for sign in _in_text(each.path, read(each.path, MOST_TEXT), name)
    ]
    in_programs = Counter(
        match
        for text in strings
        for match in set(re.findall(rf"(?<![\w.]){_NUMBER}(?![\w.]*\w)", text))
    )
    sources: dict[str, set[str]] = defaultdict(set)
    for sign in signs:
        sources[sign.version].add(sign.file)
    best: dict[tuple[str, str], VersionSign] = {}
    for sign in signs:
        more = 4 * bool(in_programs[sign.version]) + 3 * (len(sources[sign.version]) > 1)
        reasons = [sign.reason]
        reasons += ["a program says it too"] if in_programs[sign.version] else []
        reasons += ["another file says it too"] if len(sources[sign.version]) > 1 else []
        whole = VersionSign(
            version=sign.version,
            file=sign.file,
            line=sign.line,
            pattern=sign.pattern,
            reason="; ".join(reasons),
            points=sign.points + more,
            agrees=bool(in_programs[sign.version]),
        )
        key = (sign.version, sign.file)
        if key not in best or best[key].points < whole.points:
            best[key] = whole
    return sorted(best.values(), key=lambda each: (-each.points, each.file.count("/"), each.file))[
        :6
    ]


def _in_text(path: str, content: bytes, name: str) -> list[VersionSign]:
    text = content.decode("utf-8", "replace").replace("\r\n", "\n")
    base = os.path.basename(path).lower()
    points = 3 * ("version" in base) + (base.startswith(("change", "news", "release")))
    points += "/" not in path
    found: list[VersionSign] = []
    for match in [*_VERSION_LINE.finditer(text)][:4] + [*_BARE_LINE.finditer(text)][:1]:
        line = text.count("\n", 0, match.start("version")) + 1
        if _OF_FORM.search(match["lead"]):
            continue
        pattern = _pattern_for(match["lead"], match["version"], text)
        if not pattern:
            continue
        is_named = bool(re.search(r"version|release", match["lead"], re.IGNORECASE))
        more = 2 * is_named + (name.split(" ")[0].lower() in match["lead"].lower())
        found.append(
            VersionSign(
                version=match["version"],
                file=path,
                line=line,
                pattern=pattern,
                reason=f"line {line} says {match['version']}",
                points=points + more,
            )
        )
    return found


def _pattern_for(lead: str, version: str, text: str) -> str:
    """Return the shortest pattern after some words that finds this version first; empty where none does."""
    words = lead.rsplit("\n", 1)[-1]
    short = re.search(r"[^\s{,;(]*\b(?:version|release|ver|build)\b[^0-9]*$", words, re.IGNORECASE)
    for each in dict.fromkeys([short[0] if short else words, words]):
        escaped = re.sub(r"(?:\\ )+", " +", re.escape(each)).replace('\\"', '"').replace("\\:", ":")
        pattern = f"{escaped}v?(?P<version>[0-9]+(?:[.][0-9]+)+[a-z0-9]*)"
        first = re.search(pattern, text, re.MULTILINE)
        if first is not None and first["version"] == version:
            return pattern
    return ""


def _places(folders: Sequence[str], strings: Sequence[str]) -> list[tuple[str, str, str]]:
    """Return places: their names, their folders, and what each rests on."""
    found: list[tuple[str, str, str]] = []
    by_name: dict[str, str] = {}
    for folder in sorted(folders, key=lambda each: (each.count("/"), each)):
        by_name.setdefault(folder.rpartition("/")[2].lower(), folder)
    for name in _FOR_MODS:
        if name in by_name:
            found.append(("mods", by_name[name], f"the folder {by_name[name]}/"))
            break
    else:
        for name in _FOR_MODS:
            if any(re.search(rf"(?:^|[\s\"'/\\]){name}/", text) for text in strings):
                found.append(("mods", name, f"a program names {name}/, which is not there yet"))
                break
    for name in (
        "data",
        "assets",
        "content",
        "maps",
        "levels",
        "textures",
        "sounds",
        "music",
        "scripts",
    ):
        if name in by_name and by_name[name].count("/") == 0:
            found.append((name, by_name[name], f"the folder {by_name[name]}/"))
    return found


def _named(folders: Iterable[str], names: Sequence[str]) -> tuple[str, ...]:
    return tuple(
        sorted(each for each in folders if plain_name(each) in names and each.count("/") <= 1)
    )


def plain_name(folder: str) -> str:
    """Return a folder's name as lists of such names have it: small letters, nothing between the words."""
    return re.sub(r"[ _-]", "", folder.rpartition("/")[2].lower())


def _containers(files: Sequence[GameFile], read: ReadHead) -> list[str]:
    """Return patterns of zips under other endings, by what they begin with."""
    groups: dict[tuple[str, str], list[str]] = defaultdict(list)
    for each in files:
        ending = os.path.splitext(each.path)[1].lower()
        if each.size > 100 and 1 < len(ending) <= 6 and not each.path.lower().endswith(ENDINGS):
            groups[os.path.dirname(each.path), os.path.splitext(each.path)[1]].append(each.path)
    found = []
    looked = 0
    for (folder, ending), paths in sorted(groups.items()):
        looked += 1
        if looked > _MOST_LOOKED_AT:
            break
        if ending.lower() in (".jar",) or not all(
            read(path, 4) == b"PK\x03\x04" for path in paths[:3]
        ):
            continue
        found.append(f"{literal(folder)}/*{ending}" if folder else f"*{ending}")
    return found
