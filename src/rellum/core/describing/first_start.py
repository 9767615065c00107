"""What a game writes when it is started: the folders seen before and after tell what no name can.

In: two looks at the game folder and at the user's own folders. Out: what is rather the player's, what is
rather the game's own (logs, caches), and which of the user's folders it keeps things in.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Final

from rellum.core.describing.game_signs import PLAYERS, WRITTEN_BY_GAME, plain_name
from rellum.core.unsafe_places import unsafe_folder
from rellum.core.values.paths import is_inside

_LOG: Final = re.compile(r"\.(log|dmp|tmp|pid|lock)$|^(crash|stdout|stderr)", re.IGNORECASE)
_MOST_FOLDERS: Final = 400
_MOST_IN_ONE: Final = 3000

Bases = Mapping[str, str]
"""The user's own folders by what a sheet calls them: home, documents, config, data."""

Stamp = tuple[int, int]
"""A file's size in bytes and its time in nanoseconds; of a folder the number of files and the newest time."""


@dataclass(frozen=True, slots=True)
class Seen:
    """One look: the game's files by path, and the user's folders as a sheet names them."""

    files: Mapping[str, Stamp]
    outside: Mapping[str, Stamp]


@dataclass(frozen=True, slots=True, kw_only=True)
class FirstStart:
    """What changed between two looks: files and folders below the game folder, and the user's folders."""

    players: tuple[str, ...] = ()
    written_by_game: tuple[str, ...] = ()
    outside: tuple[str, ...] = ()

    @property
    def is_empty(self) -> bool:
        """Whether nothing changed."""
        return not (self.players or self.written_by_game or self.outside)


@dataclass(frozen=True, slots=True, kw_only=True)
class Surroundings:
    """What questions can find out: what changed since the first look; what a sheet calls a user's folder."""

    look_again: Callable[[], FirstStart]
    as_user_folder: Callable[[str], str]


def look(root: str, bases: Bases) -> Seen:
    """Look at a game folder and at the user's folders; what cannot be read is passed over."""
    files = {
        os.path.relpath(path, root).replace(os.sep, "/"): stamp
        for path, stamp in _files_below(root)
    }
    outside: dict[str, Stamp] = {}
    for name, folder in user_folders(bases):
        if is_inside(root, folder) or unsafe_folder(folder):
            continue
        stamps = [stamp for _, stamp in _files_below(folder, _MOST_IN_ONE)]
        outside[name] = (len(stamps), max((when for _, when in stamps), default=0))
    return Seen(files, outside)


def what_changed(before: Seen, after: Seen) -> FirstStart:
    """Tell what a start of the game wrote; a folder stands for its files where all of them changed."""
    changed = [path for path, stamp in after.files.items() if before.files.get(path) != stamp]
    still = after.files.keys() - changed
    by_game = list(filter(_is_written_by_game, changed))
    theirs = [path for path in changed if not _is_written_by_game(path)]
    return FirstStart(
        players=_together(theirs, still, PLAYERS),
        written_by_game=_together(by_game, still, WRITTEN_BY_GAME),
        outside=tuple(
            name for name, stamp in after.outside.items() if before.outside.get(name) != stamp
        ),
    )


def user_folders(bases: Bases) -> Iterator[tuple[str, str]]:
    """Yield the folders in the user's documents, configuration and data: as a sheet names them, and where."""
    for kind, base in bases.items():
        if kind == "home":  # what lies there is rarely settings
            continue
        try:
            names = sorted(os.listdir(base))[:_MOST_FOLDERS]
        except OSError:
            continue
        for name in names:
            folder = os.path.join(base, name)
            if os.path.isdir(folder) and "{" not in name:
                yield f"{{{kind}}}/{name}", folder


def as_user_folder(typed: str, bases: Bases) -> str:
    """Return a folder as a sheet names it; an empty text where no game can have it as a place."""
    kind, _, rest = typed.partition("/")
    if kind.startswith("{"):
        return typed.rstrip("/") if kind[1:-1] in bases and rest.strip("/") else ""
    folder = os.path.abspath(os.path.expanduser(typed))
    if unsafe_folder(folder):
        return ""
    found = []
    for kind, base in bases.items():
        if base and is_inside(folder, base) and not is_inside(base, folder):
            inside = os.path.relpath(folder, base).replace(os.sep, "/")
            found.append((len(base), f"{{{kind}}}/{inside}"))
    return max(found)[1] if found else ""


def _files_below(root: str, most: int | None = None) -> Iterator[tuple[str, Stamp]]:
    count = 0
    for inside, _, names in os.walk(root):
        for name in names:
            path = os.path.join(inside, name)
            try:
                status = os.lstat(path)
            except OSError:
                continue
            yield path, (status.st_size, status.st_mtime_ns)
            if (count := count + 1) == most:
                return


def _is_written_by_game(path: str) -> bool:
    *folders, name = path.split("/")
    return bool(set(map(plain_name, folders)) & set(WRITTEN_BY_GAME)) or bool(_LOG.search(name))


def _together(
    changed: Iterable[str], still: Iterable[str], names: Iterable[str]
) -> tuple[str, ...]:
    """Return the folders that hold only what changed, or have one of these names; else the files."""
    mixed = {path[:at] for path in still for at, sign in enumerate(path) if sign == "/"}
    known = set(names)
    found: dict[str, None] = {}
    for path in sorted(changed):
        folders = [path[:at] for at, sign in enumerate(path) if sign == "/"]
        own = (each for each in folders if each not in mixed or plain_name(each) in known)
        found[next(own, path)] = None
    return tuple(found)
