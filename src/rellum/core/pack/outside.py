"""Where the places outside the game folder lie on this machine."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING

from rellum.core.catalog.model import GameSheet
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import UserError
from rellum.core.pack.home import PackHome
from rellum.core.pack.pack_file import PackFile
from rellum.core.unsafe_places import unsafe_folder
from rellum.core.values.paths import GAME, PlacePath, Roots, is_inside, root_of, shown

if TYPE_CHECKING:
    from rellum.core.pack.session import Session


class OneName(UserError):
    """Two files of the line-up would be one file on this system."""

    code = "one-name"


class NoPlace(UserError):
    """A place outside the game folder is not known on this system, or was moved."""

    code = "no-place"


def roots_of(opened: Session, sheet: GameSheet, pack: PackFile) -> Roots:
    """Return the game folder and the places outside of it, by the pack's word, else by the sheet's.

    A place in which something is laid stays where it was. Raises NoPlace.
    """
    chosen = {f"@{name}": source for name, _, source in pack.places}
    for root, source in chosen.items():
        if root not in sheet.outside:
            known = ", ".join(sorted(sheet.outside)) or "none"
            raise NoPlace(
                f"{place_of(source)}: {root} is no place outside the game folder; there are {known}"
            )
    found = _places(sheet, pack)
    _refuse_moved(opened, found)
    _refuse_overlaps(opened.roots.game_folder, opened.home, found)
    return Roots(opened.roots.game_folder, {**opened.roots.outside, **found})


def _places(sheet: GameSheet, pack: PackFile) -> dict[str, str]:
    """Return the folders of the places outside, by the pack's word, else by the sheet's."""
    chosen = {f"@{name}": folder for name, folder, _ in pack.places}
    found = {}
    for root, by_system in sheet.outside.items():
        folder = chosen[root] if root in chosen else _by_sheet(by_system)
        if folder is not None:
            found[root] = folder
    return found


def usable_places(sheet: GameSheet, pack: PackFile, game: str, home: PackHome) -> dict[str, str]:
    """Return the folders of the places outside that can be used; see ``roots_of`` for the others."""
    usable: dict[str, str] = {}
    for root, folder in _places(sheet, pack).items():
        try:
            _refuse_overlaps(game, home, {**usable, root: folder})
        except NoPlace:
            continue
        usable[root] = os.path.abspath(folder)
    return usable


def _refuse_overlaps(game: str, home: PackHome, found: Mapping[str, str]) -> None:
    """Refuse places that are one folder, or lie in the game or the pack's own folder. Raises NoPlace."""
    ours = {
        "the game folder": game,
        "Rellum's own folder": home.state_folder,
    }
    known: dict[str, str] = {}
    for root, folder in found.items():
        if unsafe := unsafe_folder(folder):
            raise NoPlace(
                f"the place {root} ({folder}) and {unsafe} contain one another: no mod may write there, as "
                "the system starts programs from there, or keeps keys there",
                hint=f"Name a folder of the game's own: rellum decide place {root[1:]} FOLDER",
            )
        for other, there in ours.items():
            if is_inside(folder, there) or is_inside(there, folder):
                raise NoPlace(
                    f"the place {root} ({folder}) and {other} ({there}) contain one another",
                    hint=f"Name a folder of its own: rellum decide place {root[1:]} FOLDER",
                )
        for other, there in known.items():
            if is_inside(folder, there) and is_inside(there, folder):
                raise NoPlace(f"the places {root} and {other} are one folder: {folder}")
        known[root] = folder


def refuse_unknown_places(paths: Iterable[PlacePath], roots: Roots, sheet: GameSheet) -> None:
    """Refuse paths of places that nobody says where they lie on this system. Raises NoPlace."""
    for path in paths:
        root = root_of(path)
        if root != GAME and root not in roots.outside:
            raise NoPlace(
                f"{path}: the game sheet does not say where {root} lies on this system "
                f"({place_of(sheet.source)})",
                hint=f"Say where it is: rellum decide place {root[1:]} FOLDER",
            )


def refuse_second_names(paths: Iterable[PlacePath], roots: Roots) -> None:
    """Refuse paths of a place that lie in another place, whose name they must have. Raises NoPlace."""
    nested = [
        (f"{outer}/{os.path.relpath(inside, folder)}/".replace(os.sep, "/"), inner)
        for outer, folder in roots.outside.items()
        for inner, inside in roots.outside.items()
        if inner != outer and is_inside(inside, folder)
    ]
    for path in paths if nested else ():
        for prefix, inner in nested:
            if path.startswith(prefix):
                rest = path[len(prefix) :]
                raise NoPlace(
                    f"{path} lies in the place {inner}, and must be written {inner}/{rest}",
                    hint="Correct 'to' in the card.",
                )


def refuse_one_name(paths: Iterable[PlacePath], roots: Roots) -> None:
    """Refuse paths that differ in capitals alone, where the system takes them for one. Raises OneName."""
    known: dict[str, PlacePath] = {}
    for path in paths:
        first = known.setdefault(path.casefold(), path)
        if first != path and folds_names(roots.folder_of(path)):
            raise OneName(
                f"{shown(first)} and {shown(path)} are one file to this system",
                hint="Leave one of them out, or rename it, in the card that brings it.",
            )


def folds_names(folder: str) -> bool:
    """Whether the system takes names in a folder that differ in capitals alone for one."""
    try:
        with os.scandir(folder) as entries:
            name = next((each.name for each in entries if each.name.swapcase() != each.name), "")
        return bool(name) and os.path.samefile(
            os.path.join(folder, name), os.path.join(folder, name.swapcase())
        )
    except OSError:
        return False


def _refuse_moved(opened: Session, found: Mapping[str, str]) -> None:
    """Refuse another folder for a place in which files were laid. Raises NoPlace."""
    for root, before in opened.state.outside().items():
        now = found.get(root, before)
        if os.path.abspath(now) != before and opened.state.laid_below(PlacePath(root)):
            raise NoPlace(
                f"{root} was {before}, where files of this pack lie, and is {now} now",
                hint="Call 'rellum restore --all' with the old folder first, or put the old one back.",
            )


def _by_sheet(by_system: Mapping[str, str]) -> str | None:
    """Return a place's folder on this system; None where the sheet does not tell."""
    template = by_system.get({"win32": "windows", "darwin": "macos"}.get(sys.platform, "linux"))
    if template is None:
        return None
    head, _, rest = template.partition("/")
    return os.path.join(user_folder(head.strip("{}")), *filter(None, rest.split("/")))


def user_folder(name: str) -> str:
    """Return one of the user's own folders: ``home``, ``documents``, ``config`` or ``data``."""
    import platformdirs

    folders = {
        "home": os.path.expanduser("~"),
        "documents": platformdirs.user_documents_dir(),
        "config": platformdirs.user_config_dir(),
        "data": platformdirs.user_data_dir(),
    }
    return folders[name]
