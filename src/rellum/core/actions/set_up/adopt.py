"""Adopt a game folder: identify it, list and hash it as the baseline, write rellum.toml."""

from __future__ import annotations

import os
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from rellum.core.actions.set_up.first_look import (
    Likeness,
    catalog_if_readable,
    known_baseline,
    like_releases,
    members_of,
    rows_as_found,
    rows_as_known,
    signs_of_mods,
)
from rellum.core.catalog.known import KnownBaseline
from rellum.core.catalog.load import load_sheets
from rellum.core.catalog.model import GameSheet
from rellum.core.change.execute import execute
from rellum.core.change.journal import PackChange
from rellum.core.change.looking import drift_of, with_causes
from rellum.core.change.marking import plan_marker
from rellum.core.change.opening import open_pack
from rellum.core.change.plan import Plan
from rellum.core.change.readiness import refuse_unready
from rellum.core.change.rebasing import identity_text
from rellum.core.change.request import Request
from rellum.core.change.staging import NoSources
from rellum.core.errors import UserError
from rellum.core.folder.detection import UnknownGame, find_sheet, identify, identify_now
from rellum.core.folder.hashes import hash_files
from rellum.core.folder.identity import Identity
from rellum.core.folder.listing import FolderEntry, list_folder
from rellum.core.folder.model import Drift
from rellum.core.folder.surroundings import warnings_for
from rellum.core.hashing import Digest
from rellum.core.nearest import nearest
from rellum.core.pack.catalogs import find_catalogs, has_cards
from rellum.core.pack.home import PACK_FILE, PackHome, pack_texts
from rellum.core.pack.lock_file import read_lock
from rellum.core.pack.lost_state import StateFault, lost_state
from rellum.core.pack.marker import marker_bytes, refuse_other_owner
from rellum.core.pack.new_state import BaselineRow, create_from_rows, remove_state, write_vanilla
from rellum.core.pack.open_state import open_state
from rellum.core.pack.outside import usable_places
from rellum.core.pack.pack_edits import changed_text, write_adopted
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.pack.pack_lock import hold_pack
from rellum.core.pack.state import Adopted, new_id
from rellum.core.pack.state_change import BaselineChange
from rellum.core.progress import Listener
from rellum.core.values.ids import SheetId
from rellum.core.values.owners import RELLUM
from rellum.core.values.paths import (
    PlacePath,
    Roots,
    is_inside,
    is_text,
    refuse_no_text,
    shown,
    shown_file,
)
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.version import VersionSyntaxError


class CannotAdopt(UserError):
    """The folder cannot be this pack's game folder."""

    code = "cannot-adopt"


@dataclass(frozen=True, slots=True, kw_only=True)
class AdoptResult:
    """What was adopted.

    files, bytes: the vanilla files, and their size together as far as it is known
    known: the known baseline that tells what vanilla is; None where the folder was taken as it is
    drift: what is not vanilla in it, by cause, where that is known
    places: the places outside the game folder that the sheet names, with their folders
    likenesses: what of that looks like known releases; without a known baseline, what looks foreign
    players: how many files are the player's by the sheet, and so never vanilla
    has_cards: whether the catalog has mods at all
    """

    identity: Identity
    game_folder: str
    pack_folder: str
    files: int
    bytes: int
    warnings: tuple[str, ...]
    known: KnownBaseline | None = None
    drift: Drift | None = None
    likenesses: tuple[Likeness, ...] = ()
    places: tuple[tuple[str, str], ...] = ()
    players: int = 0
    has_cards: bool = True


def adopt(
    request: Request,
    game_folder: str,
    *,
    catalogs: tuple[str, ...] = (),
    sheet_id: str = "",
    copy_to: str = "",
    version: str = "",
    as_it_is: bool = False,
    anew: bool = False,
) -> AdoptResult:
    """Make the game folder this pack's own; or a copy of it, made at ``copy_to``.

    Where the files of its version are known, these are vanilla, whatever the folder holds; ``as_it_is``: what
    it holds is. ``version`` states it where no rule of the sheet tells. ``anew``: the pack keeps this game
    already, and looks at it once more.

    Raises CannotAdopt, CannotCopy, UnknownGame, FolderOwned, NoCatalog, FileFaults, PackBusy.
    """
    home = PackHome(os.path.abspath(request.pack_folder))
    roots = Roots(game_folder)
    if anew:
        _refuse_unready_for_anew(home, roots)
    else:
        _refuse_adopted(home, roots.game_folder)
    _refuse_places(home, roots, request.shelf_folder)
    if not anew:
        refuse_other_owner(roots, home, "")
    pack = read_pack_file(home) if os.path.exists(home.pack_file) else None
    folders = find_catalogs(home, catalogs, pack)
    for folder, what in ((home.folder, "the pack"), *((each, "the catalog") for each in folders)):
        refuse_no_text(folder, what)
    refuse_no_text(os.path.abspath(copy_to or roots.game_folder), "the game folder")
    sheet = choose_sheet(load_sheets(folders), sheet_id, roots)
    identity = _identity(sheet, roots, version)
    if copy_to:
        from rellum.core.pack.copying import copy_game

        _refuse_places(home, Roots(game_folder), request.shelf_folder, copy_to)
        copy_game(roots.game_folder, copy_to, request.listen)
        roots = Roots(copy_to)
    entries, warnings = _look_around(roots)
    files = [entry for entry in entries if entry.kind == "file"]
    digests = _hash(files, roots, request.listen)
    known = None if as_it_is else known_baseline(sheet, identity)
    is_players = sheet.path_rules.test(sheet.players_own)
    own = [each for each in files if is_players(PlacePath(each.path))]
    owned = {each.path for each in own}
    games = [each for each in entries if each.path not in owned]
    if not known and not anew:
        _refuse_laid(home, digests, request.shelf_folder)
    rows = (
        rows_as_known(known, games, digests, roots, is_players)
        if known
        else rows_as_found(games, digests)
    )
    os.makedirs(home.state_folder, exist_ok=True)
    if anew:
        _record_anew(home, identity, rows)
    else:
        _create(home, roots, folders, identity, rows, rows_as_found(own, digests))
    catalog = catalog_if_readable(folders, sheet)
    drift, likenesses = None, signs_of_mods(entries, sheet, catalog) if not known else ()
    if known:
        with open_pack(Request(pack_folder=home.folder)) as opened:
            drift = with_causes(drift_of(opened), opened)
        odd = [each.path for each in drift.findings if each.kind != "missing"]
        likenesses = like_releases(odd, digests, request.shelf_folder, catalog)
    return AdoptResult(
        identity=identity,
        game_folder=roots.game_folder,
        pack_folder=home.folder,
        files=sum(row[1] == "file" for row in rows),
        bytes=sum(max(0, row[2]) for row in rows),
        warnings=tuple(warnings),
        known=known,
        players=len(own),
        has_cards=has_cards(folders),
        drift=drift,
        likenesses=likenesses,
        places=tuple(usable_places(sheet, read_pack_file(home), roots.game_folder, home).items()),
    )


def _identity(sheet: GameSheet, roots: Roots, stated: str) -> Identity:
    """Return what the folder is; its version as stated where no rule tells. Raises CannotAdopt."""
    if not stated:
        return identify(sheet, roots)
    try:
        version = parse_version(stated)
    except VersionSyntaxError as error:
        raise CannotAdopt(f"{stated!r} is no version: {error}") from error
    told = identify_now(sheet, roots)
    if told is not None and told.version != version:
        raise CannotAdopt(
            f"the folder says that it is {told.version}, not {version}",
            details=told.evidence,
            hint="Omit --version, or correct the [[version]] rules in the game sheet.",
        )
    return told or identify(sheet, roots, stated=version)


def _create(
    home: PackHome,
    roots: Roots,
    catalogs: tuple[str, ...],
    identity: Identity,
    rows: Sequence[BaselineRow],
    players: Sequence[BaselineRow],
) -> None:
    with hold_pack(home):
        adopted = Adopted(pack_id=new_id(), folder=roots.game_folder)
        refuse_unready(roots)
        write_adopted(home, catalogs, roots.game_folder, identity)
        create_from_rows(home, adopted, identity, rows, players=players)
    try:
        with open_pack(Request(pack_folder=home.folder, even_if_running=True)) as opened:
            plan = plan_marker(marker_bytes(home, adopted.pack_id), opened.roots)
            execute(plan, "adopt", opened.site, NoSources())
    except BaseException:
        if not os.path.exists(home.journal_file):  # it was taken back, or never begun
            remove_state(home)
        raise


def _refuse_unready_for_anew(home: PackHome, roots: Roots) -> None:
    """Refuse to look once more at another folder, or while mods lie in it. Raises CannotAdopt."""
    with open_pack(Request(pack_folder=home.folder)) as opened:
        if opened.roots.game_folder != roots.game_folder:
            raise CannotAdopt(
                f"the pack {home.folder} keeps {opened.roots.game_folder}",
                hint="Name that folder. Make another folder for a pack of another game.",
            )
        if any(row.owner != RELLUM for row in opened.state.laid().values()):
            raise CannotAdopt(
                "mods of the line-up lie in the game folder",
                hint="Run 'rellum restore --all' first, then adopt again, then 'rellum apply'.",
            )


def _record_anew(home: PackHome, identity: Identity, rows: Sequence[BaselineRow]) -> None:
    """Note another baseline for the game that the pack keeps; one rewind takes it back."""
    with open_pack(Request(pack_folder=home.folder)) as opened:
        before = {row[0]: row for row in opened.state.baseline_rows()}
        now = {row[0]: row for row in rows}
        changes: list[BaselineChange] = [(path, None) for path in before if path not in now]
        changes += [(path, row) for path, row in now.items() if before.get(path) != row]
        plan = Plan(
            baseline=tuple(changes),
            identity=identity_text(identity),
        )
        texts = dict(pack_texts(home))
        texts[PACK_FILE] = changed_text(home, identity)
        pack = PackChange(becoming=tuple(texts.items()), writes=(PACK_FILE,))
        execute(plan, "adopt --anew", opened.site, NoSources(), pack)
        write_vanilla(opened.home, opened.state)


def _refuse_adopted(home: PackHome, game: str) -> None:
    if not os.path.exists(home.state_file):
        if lost := lost_state(home, game):
            raise CannotAdopt(lost.summary, hint=lost.hint)
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
        hint="One pack keeps one game folder: make another folder for another pack, or look at this one "
        "once more with 'rellum adopt GAME --anew'.",
    )


def _refuse_laid(home: PackHome, digests: Mapping[str, Digest], shelf_folder: str) -> None:
    """Refuse to call vanilla what the line-up of this pack has laid. Raises CannotAdopt, FileFaults."""
    if not os.path.exists(home.lock_file):
        return
    archives = {file.blake3 or "" for each in read_lock(home).releases for file in each.files}
    members = members_of(shelf_folder, archives)
    laid = {path for path, digest in digests.items() if digest in members}
    if laid:
        raise CannotAdopt(
            "mods of this pack's line-up are in the game already: "
            + ", ".join(shown(PlacePath(path)) for path in sorted(laid)[:3])
            + (f" and {len(laid) - 3:,} more" if len(laid) > 3 else ""),
            hint="Adopt a clean copy of the game, then run 'rellum apply'. If this pack laid them, put its "
            "folder .rellum back.",
        )


def _refuse_places(home: PackHome, roots: Roots, shelf_folder: str, copy_to: str = "") -> None:
    """Refuse places that contain one another; with ``copy_to``, that one is looked at. Raises CannotAdopt."""
    game = roots.game_folder
    if copy_to and (is_inside(copy_to, game) or is_inside(game, copy_to)):
        raise CannotAdopt(
            f"the copy {copy_to} and the game {game} contain one another",
            hint="Name a folder beside the game.",
        )
    if lack := no_folder(game):
        raise CannotAdopt(lack, hint="Name the folder of the game.")
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


def no_folder(game: str) -> str:
    """Say what is wrong where a game folder should be; nothing if it is there."""
    if os.path.isdir(game):
        return ""
    return f"the game folder {game} {'is a file' if os.path.exists(game) else 'is not there'}"


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
            f"{roots.game_folder} matches no game in the catalog",
            details=tuple(
                f"{sheet.name}: {shown(mark)} is not there"
                for sheet in sheets.values()
                for mark in sheet.marks
                if not os.path.exists(roots.absolute(mark))
            )[:10],
            hint="Name the game's own folder, or choose the sheet with --sheet. No sheet describes it? "
            f"Draft one: rellum describe --game {shlex.quote(shown_file(roots.game_folder))}",
        )
    return found


def _look_around(roots: Roots) -> tuple[list[FolderEntry], list[str]]:
    """List the folder and try what Rellum will do there. Raises CannotAdopt."""
    try:
        entries = list_folder(roots.game_folder)
    except OSError as error:
        raise CannotAdopt(
            f"the game folder cannot be read: {error.strerror}: {error.filename}",
            hint="Give yourself permission to read it, then try again.",
        ) from error
    odd = next((each.path for each in entries if not is_text(each.path)), None)
    if odd is not None:
        raise CannotAdopt(
            f"the name {odd.encode('utf-8', 'backslashreplace').decode()} is not Unicode text",
            hint="Rename that file: other systems cannot store such a name.",
        )
    try:
        warnings = list(warnings_for(roots.game_folder, entries))
    except OSError as error:
        raise CannotAdopt(
            f"the game folder {roots.game_folder} cannot be written: {error.strerror}",
            hint="Rellum must be able to write there. Change the permissions, or copy the game elsewhere.",
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
            hint="Give yourself permission to read it, then try again.",
        ) from error
    gone = next((path for (path, _), each in zip(paths, digests, strict=True) if each is None), "")
    if gone:
        raise CannotAdopt(
            f"{gone} disappeared during the scan", hint="Close the game and try again."
        )
    return {entry.path: digest for entry, digest in zip(files, digests, strict=True) if digest}
