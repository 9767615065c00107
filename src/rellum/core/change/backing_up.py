"""Backups of what is the player's own: before every change of the game, and when asked for."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable, Iterable
from functools import partial
from operator import attrgetter
from typing import TYPE_CHECKING, cast

from rellum.core.errors import RellumError
from rellum.core.folder.entries import entries_in
from rellum.core.folder.stamps import STAGING_NAME
from rellum.core.globs import WILDCARD
from rellum.core.notices import inform, note
from rellum.core.pack.backup import Circumstances, Made, SeenFile, release_label
from rellum.core.pack.backups import Backups
from rellum.core.pack.folder_rules import FolderRules
from rellum.core.pack.home import PackHome, read_text
from rellum.core.pack.state import State
from rellum.core.values.owners import LOAD_ORDER, RELLUM
from rellum.core.values.paths import PlacePath, Roots, is_in_game, is_text, root_of
from rellum.core.words import count_words

if TYPE_CHECKING:
    from rellum.core.pack.site import Site


_OUT_OF_REACH = frozenset(
    (
        errno.ENOENT,
        errno.ENOTDIR,
        errno.EACCES,
        errno.EPERM,
        errno.ELOOP,
        errno.ENAMETOOLONG,
        errno.EINVAL,
    )
)
"""What says that a file is not there, or may not be read. After any other failure it is."""

WITH_OWN_BACKUP = frozenset(("hunt",))
"""Changes that put the player's files back by themselves, from a backup that they began with."""


def players_files(rules: FolderRules, state: State, roots: Roots) -> dict[PlacePath, SeenFile]:
    """Return all that is the player's own, as it stands: what the sheet and the cards call so.

    Files in the places of settings and saves, carried files, and settings that mods and the player both
    change. What a mod laid there and nobody may change is the mod's.
    """
    patterns = (*rules.carried, *rules.settings_patterns)
    is_own = rules.path_rules.test(patterns)
    is_log = rules.path_rules.test(rules.own_files)
    found: dict[PlacePath, SeenFile] = {}
    places = rules.players_places
    wholly = {PlacePath(each[:-3]) for each in patterns if each.endswith("/**")}
    log_bases = list(map(_base, rules.own_files))
    for base in _outermost([*map(_base, patterns), *places]):
        inside = _below(base, roots)
        if base not in wholly and base not in places:
            inside = {
                path: seen
                for path, seen in inside.items()
                if (is_own(path) or _is_in(path, places)) and not is_log(path)
            }
        elif any(_overlap(base, each) for each in log_bases):
            inside = {path: seen for path, seen in inside.items() if not is_log(path)}
        found = {**found, **inside} if found else inside
    shared = [place for place in places if place not in wholly]
    in_places = (path for path in found if _is_in(path, shared)) if shared else ()
    only_there = [path for path in in_places if not is_own(path)]
    laid = state.laid(only_there) if only_there else {}
    for path in [path for path, row in laid.items() if not row.role]:
        del found[path]  # a mod laid it, and nobody may change it
    by_rellum = set()
    for path, row in state.laid(state.laid_with_role()).items():
        if row.owner in (
            RELLUM,
            LOAD_ORDER,
        ):  # made from the line-up, like the game's load-order file
            by_rellum.add(path)
        elif path not in found and (seen := _seen(path, roots)):
            found[path] = seen
    for path in by_rellum & found.keys():
        del found[path]
    return found


def _base(pattern: str) -> PlacePath:
    """Return the folder, or the file, below which all that fits a pattern lies."""
    wild = WILDCARD.search(
        pattern.replace("[[]", "(((")
    )  # a bracket that is meant stands for itself
    if wild is None:
        return PlacePath(pattern.replace("[[]", "["))
    return PlacePath(pattern[: wild.start()].rpartition("/")[0].replace("[[]", "["))


def _outermost(bases: Iterable[PlacePath]) -> list[PlacePath]:
    """Return the bases that lie in no other of them."""
    found: list[PlacePath] = []
    for base in sorted(set(bases), key=len):
        if not any(base == other or base.startswith(f"{other}/") for other in found):
            found.append(base)
    return found


def _overlap(one: PlacePath, other: PlacePath) -> bool:
    """Whether one of two paths is, or lies in, the other."""
    return f"{one}/".startswith(f"{other}/") or f"{other}/".startswith(f"{one}/")


def _is_in(path: PlacePath, places: Iterable[PlacePath]) -> bool:
    return any(path.startswith(f"{place}/") for place in places)


def _below(base: PlacePath, roots: Roots) -> dict[PlacePath, SeenFile]:
    """Return the files at or below a path; what may not be read is passed over. Raises OSError."""
    if not (is_in_game(base) or root_of(base) in roots.outside) or base.endswith("!"):
        return {}
    top = roots.absolute(base)
    others = {
        folder for folder in roots.outside.values() if folder != top
    }  # with names of their own
    if seen := _seen(base, roots):
        return {base: seen}
    # The first thing that every change does, for thousands of files: no call for each that can be saved.
    found: dict[str, SeenFile] = {}
    waiting = [(top, str(base))]
    while waiting:
        folder, here = waiting.pop()
        try:
            for name, status in entries_in(folder):
                if not (name.isascii() or is_text(name)):
                    continue
                kind = status.st_mode & _KIND
                if kind == stat.S_IFREG:
                    size, mode, *times = _ABOUT(status)
                    about = (f"{folder}{os.sep}{name}", size, mode & 0o7777, *times)
                    found[f"{here}/{name}"] = _seen_file(about)
                elif kind == stat.S_IFDIR and name != STAGING_NAME:
                    below = f"{folder}{os.sep}{name}"
                    if below not in others:
                        waiting.append((below, f"{here}/{name}"))
        except OSError as error:
            if error.errno not in _OUT_OF_REACH:  # listed by number, a folder has no name in it
                raise OSError(error.errno, error.strerror, folder) from error
    return cast("dict[PlacePath, SeenFile]", found)


_seen_file = partial(tuple.__new__, SeenFile)
_ABOUT = attrgetter("st_size", "st_mode", "st_mtime_ns", "st_ctime_ns")
_KIND = 0o170000


def _seen(path: PlacePath, roots: Roots) -> SeenFile | None:
    if not (is_in_game(path) or root_of(path) in roots.outside):
        return None
    file = roots.absolute(path)
    try:
        status = os.lstat(file)
    except ValueError:
        return None
    except OSError as error:
        if error.errno not in _OUT_OF_REACH:
            raise
        return None
    if not stat.S_ISREG(status.st_mode):
        return None
    mode = stat.S_IMODE(status.st_mode)
    return SeenFile(file, status.st_size, mode, status.st_mtime_ns, status.st_ctime_ns)


def back_up(
    home: PackHome,
    rules: FolderRules,
    state: State,
    roots: Roots,
    reason: str,
    name: str = "",
    *,
    always: bool = False,
) -> Made:
    """Make a backup of what is the player's own, where anything changed, or ``always``.

    Raises BackupFault, OSError.
    """
    seen = players_files(rules, state, roots)
    if not seen and not name and not always and not os.path.exists(home.backups_folder):
        return Made(0, is_new=False)  # a game that keeps nothing of the player's
    with Backups(home.backups_folder) as backups:
        return backups.make(seen, circumstances(home, state, reason), name, always=always)


def circumstances(home: PackHome, state: State, reason: str) -> Callable[[], Circumstances]:
    """Return what tells what is to be noted of a new backup, should one be made."""

    def about() -> Circumstances:
        releases = tuple(sorted(map(release_label, state.releases_laid())))
        return Circumstances(reason, variant_of(home), state.game_version(), releases)

    return about


def back_up_before(action: str, site: Site) -> None:
    """Make the backup before a change, and say so where it is new; a change does not fail for want of it."""
    try:
        made = back_up(site.home, site.rules, site.state, site.roots, action)
    except (OSError, RellumError) as error:
        words = error.summary if isinstance(error, RellumError) else str(error)
        note(f"no backup was made before this: {words}")
        return
    if made.is_new:
        files = count_words(len(made.changed) + len(made.gone), "file", "files")
        inform(f"Backup {made.number} was made before this: {files} of yours new, changed or gone.")
    if made.in_use:
        note(f"Not in the backup, as it is being written: {', '.join(made.in_use[:3])}")


def variant_of(home: PackHome) -> str:
    """Return the variant that rellum.toml is for; an empty text where that cannot be read."""
    from rellum.core.pack.variant_name import name_in

    try:
        return name_in(read_text(home.pack_file) or "")
    except OSError:
        return ""
