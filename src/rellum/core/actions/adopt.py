"""Adopt a game folder: know what it is, list and hash it as the baseline, make rellum.toml."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass

from rellum.core.actions.catalogs import find_catalogs
from rellum.core.catalog.load import load_sheets
from rellum.core.catalog.model import GameSheet
from rellum.core.errors import UserError
from rellum.core.folder.hashes import hash_files
from rellum.core.folder.identify import UnknownGame, find_sheet, identify
from rellum.core.folder.identity import Identity
from rellum.core.folder.listing import FolderEntry, list_folder
from rellum.core.folder.surroundings import warnings_for
from rellum.core.hashing import Digest
from rellum.core.ids import SheetId
from rellum.core.nearest import nearest
from rellum.core.pack.home import PackHome
from rellum.core.pack.marker import MARKER_PATH, lay_marker, refuse_other_owner
from rellum.core.pack.new_state import create_state
from rellum.core.pack.pack_edits import write_adopted
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.pack.process_lock import hold_pack
from rellum.core.pack.state import Adopted, StateFault, new_id, open_state
from rellum.core.paths import PlacePath, Roots, is_inside, is_text, shown
from rellum.core.progress import Listener, silent


class CannotAdopt(UserError):
    """The folder cannot be this pack's game folder."""

    code = "cannot-adopt"


@dataclass(frozen=True, slots=True, kw_only=True)
class AdoptResult:
    """What was adopted. ``bytes`` is the size of all vanilla files together."""

    identity: Identity
    game_folder: str
    pack_folder: str
    files: int
    bytes: int
    warnings: tuple[str, ...]


def adopt(
    pack_folder: str,
    game_folder: str,
    *,
    catalogs: tuple[str, ...] = (),
    sheet_id: str = "",
    shelf_folder: str,
    copy_to: str = "",
    listen: Listener = silent,
) -> AdoptResult:
    """Make the game folder this pack's own; or a copy of it, made at ``copy_to``.

    Raises CannotAdopt, CannotCopy, UnknownGame, FolderOwned, NoCatalog, FileFaults, PackBusy.
    """
    home = PackHome(os.path.abspath(pack_folder))
    roots = Roots(game_folder)
    _refuse_adopted(home)
    _refuse_places(home, roots, shelf_folder)
    refuse_other_owner(roots, home, "")
    pack = read_pack_file(home) if os.path.exists(home.pack_file) else None
    folders = find_catalogs(home, catalogs, pack)
    sheet = choose_sheet(load_sheets(folders), sheet_id, roots)
    identity = identify(sheet, roots)
    if copy_to:
        from rellum.core.actions.copying import copy_game

        _refuse_places(home, Roots(game_folder), shelf_folder, copy_to)
        copy_game(roots.game_folder, copy_to, listen)
        roots = Roots(copy_to)
    entries, warnings = _look_around(roots)
    files = [entry for entry in entries if entry.kind == "file"]
    digests = _hash(files, roots, listen)
    os.makedirs(home.state_folder, exist_ok=True)
    with hold_pack(home):
        adopted = Adopted(pack_id=new_id(), folder=roots.game_folder)
        marker = lay_marker(home, roots, adopted.pack_id)
        try:
            write_adopted(home, folders, roots.game_folder, identity)
            create_state(home, adopted, identity, entries, digests, marker)
        except BaseException:
            os.unlink(roots.absolute(MARKER_PATH))
            raise
    return AdoptResult(
        identity=identity,
        game_folder=roots.game_folder,
        pack_folder=home.folder,
        files=len(files),
        bytes=sum(entry.size for entry in files),
        warnings=tuple(warnings),
    )


def _refuse_adopted(home: PackHome) -> None:
    if not os.path.exists(home.state_file):
        return
    try:
        state = open_state(home)
    except StateFault as fault:
        raise CannotAdopt(
            f"this pack has a state already: {fault.summary}", hint=fault.hint
        ) from fault
    folder = state.adopted().folder
    state.close()
    raise CannotAdopt(
        f"the pack {home.folder} keeps {folder} already",
        hint="One pack keeps one game folder. Make another folder for another pack.",
    )


def _refuse_places(home: PackHome, roots: Roots, shelf_folder: str, copy_to: str = "") -> None:
    """Refuse places that lie in one another; with ``copy_to``, that one is looked at. Raises CannotAdopt."""
    game = roots.game_folder
    if copy_to and (is_inside(copy_to, game) or is_inside(game, copy_to)):
        raise CannotAdopt(
            f"the copy {copy_to} and the game {game} lie in one another",
            hint="Name a folder beside the game.",
        )
    if not os.path.isdir(game):
        what = "is a file" if os.path.exists(game) else "is not there"
        raise CannotAdopt(f"the game folder {game} {what}", hint="Name the folder of the game.")
    game = os.path.abspath(copy_to) if copy_to else game
    for other, name in ((home.folder, "pack"), (shelf_folder, "shelf")):
        if is_inside(game, other):
            raise CannotAdopt(
                f"the game folder {game} lies in the {name} {other}",
                hint="Keep game, pack and shelf in folders beside each other.",
            )
        if is_inside(other, game):
            raise CannotAdopt(
                f"the {name} {other} lies in the game folder {game}",
                hint="Keep game, pack and shelf in folders beside each other.",
            )


def choose_sheet(sheets: dict[SheetId, GameSheet], named: str, roots: Roots) -> GameSheet:
    """Return the sheet of that name, else the one that fits the folder. Raises UnknownGame."""
    if named:
        sheet = sheets.get(SheetId(named))
        if sheet is None:
            raise UnknownGame(
                f"no game sheet has the id {named!r}" + nearest(named, sheets),
                hint=f"Sheets in the catalog: {', '.join(sorted(sheets)) or 'none'}.",
            )
        return sheet
    found = find_sheet(sheets.values(), roots)
    if found is None:
        raise UnknownGame(
            f"{roots.game_folder} is no game that the catalog describes",
            details=tuple(
                f"{sheet.name}: {shown(mark)} is not there"
                for sheet in sheets.values()
                for mark in sheet.marks
                if not os.path.exists(roots.absolute(mark))
            )[:10],
            hint="Name the game's own folder, or say which sheet it is by --sheet.",
        )
    return found


def _look_around(roots: Roots) -> tuple[list[FolderEntry], list[str]]:
    """List the folder and try what Rellum will do there. Raises CannotAdopt."""
    try:
        entries = [each for each in list_folder(roots.game_folder) if each.path != MARKER_PATH]
    except OSError as error:
        raise CannotAdopt(
            f"the game folder cannot be read: {error.strerror}: {error.filename}",
            hint="Give yourself the right to read it, and try again.",
        ) from error
    odd = next((each.path for each in entries if not is_text(each.path)), None)
    if odd is not None:
        raise CannotAdopt(
            f"the name {odd.encode('utf-8', 'backslashreplace').decode()} is not Unicode text",
            hint="Rename that file: other systems could not hold it.",
        )
    try:
        warnings = list(warnings_for(roots.game_folder, entries))
    except OSError as error:
        raise CannotAdopt(
            f"the game folder {roots.game_folder} cannot be written: {error.strerror}",
            hint="Rellum must be able to write there. Change its rights, or copy the game.",
        ) from error
    return entries, warnings


def _hash(files: Sequence[FolderEntry], roots: Roots, listen: Listener) -> dict[str, Digest]:
    """Return the hash of every file. Raises CannotAdopt where one cannot be read."""
    paths = [(roots.absolute(PlacePath(each.path)), each.size) for each in files]
    try:
        digests = hash_files(paths, "hashing", listen)
    except OSError as error:
        raise CannotAdopt(
            f"{error.filename} cannot be read: {error.strerror}",
            hint="Give yourself the right to read it, and try again.",
        ) from error
    gone = next((path for (path, _), each in zip(paths, digests, strict=True) if each is None), "")
    if gone:
        raise CannotAdopt(f"{gone} went away meanwhile", hint="Close the game and try again.")
    return {entry.path: digest for entry, digest in zip(files, digests, strict=True) if digest}
