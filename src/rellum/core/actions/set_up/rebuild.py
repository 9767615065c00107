"""Rebuilding a state that was lost or damaged, from everything else.

The second copy of the baseline tells the vanilla files; the line-up and the shelf tell what each release
lays; what stands in the game folder tells what of it is there. An interrupted change is brought to its end
by its journal, as ever. Unknown copies in the store of originals are moved aside.
"""

from __future__ import annotations

import os
import shlex
import shutil
import time
from dataclasses import dataclass

from rellum.core.actions.set_up.first_look import known_baseline, rows_as_known
from rellum.core.change.journal import Step
from rellum.core.change.journal_reading import JournalDamaged, NewerJournal, read_journal
from rellum.core.change.opening import open_pack
from rellum.core.change.preparing import Preparing
from rellum.core.change.request import Request
from rellum.core.errors import UserError
from rellum.core.folder.detection import identify, identify_now
from rellum.core.folder.identity import Identity
from rellum.core.folder.listing import list_folder
from rellum.core.hashing import Digest, hash_file
from rellum.core.layers.model import Removal, Target
from rellum.core.pack.catalogs import catalog_of
from rellum.core.pack.home import PackHome, pack_home, pack_texts
from rellum.core.pack.lost_state import StateFault
from rellum.core.pack.marker import MARKER_PATH, lay_marker, marked_id
from rellum.core.pack.new_state import BaselineRow, create_from_rows, read_vanilla
from rellum.core.pack.open_state import open_state
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.pack.pack_lock import hold_pack
from rellum.core.pack.session import Session
from rellum.core.pack.state import Adopted, new_id
from rellum.core.pack.state_change import StateChange
from rellum.core.shelf.store import Shelf
from rellum.core.values.content import PLAIN_MODE, Content, Laid
from rellum.core.values.paths import PlacePath, Roots
from rellum.core.versions.orderings import parse_version


class NotDamaged(UserError):
    """The state is intact; there is nothing to rebuild."""

    code = "not-damaged"


@dataclass(frozen=True, slots=True, kw_only=True)
class Rebuilt:
    """What was found again.

    laid: files of the line-up that stand in the game, or should
    unsure: files with an unknown original
    damaged: where the damaged database is kept; empty where there was none
    rescued: the folder of copies that nothing is known of, and how many there are
    """

    laid: int
    unsure: tuple[PlacePath, ...]
    damaged: str
    rescued: str
    rescued_files: int


def rebuild(request: Request, game_folder: str) -> Rebuilt:
    """Rebuild the state, or leave everything as it is.

    Raises NotDamaged, StateFault, UnknownGame, and what applying can raise.
    """
    home = pack_home(request.pack_folder)
    journal = home.journal_file + "-waiting"
    os.makedirs(home.state_folder, exist_ok=True)
    with hold_pack(home):
        identity, rows = _vanilla(home, Roots(game_folder))
        damaged = _set_aside_damaged(home)
        # Remove nothing from the store before it is known what is needed.
        if os.path.isdir(home.originals_folder) and not os.path.isdir(home.waiting_store):
            os.rename(home.originals_folder, home.waiting_store)
        if os.path.exists(home.journal_file):
            os.replace(home.journal_file, journal)
        _create(home, Roots(game_folder), identity, rows)
    try:
        with open_pack(request, making_anew=True) as opened:
            laid, unsure = _find_laid(opened, request.shelf_folder)
    except BaseException:
        _take_back(home, journal, damaged)
        raise
    rescued, count = _bring_back_store(home, journal)
    if os.path.exists(journal):
        os.replace(journal, home.journal_file)
    with open_pack(request):  # goes on with an interrupted change
        pass
    return Rebuilt(laid=laid, unsure=unsure, damaged=damaged, rescued=rescued, rescued_files=count)


def _vanilla(home: PackHome, roots: Roots) -> tuple[Identity, list[BaselineRow]]:
    """Return what the game is and the rows of its baseline: the second copy's, else a known one's.

    Raises StateFault.
    """
    try:
        version, rows = read_vanilla(home)
    except StateFault as fault:
        sheet = catalog_of(home, read_pack_file(home)).sheet
        told = identify_now(sheet, roots)
        known = known_baseline(sheet, told) if told else None
        if told is None or known is None:
            marker = roots.absolute(MARKER_PATH)
            raise StateFault(
                fault.summary,
                hint=f"Bring the game back to vanilla by its store, delete {home.state_folder} and {marker}, "
                f"then run 'rellum adopt {shlex.quote(roots.game_folder)}'.",
            ) from fault
        entries = list_folder(roots.game_folder)
        files = [each for each in entries if each.kind == "file"]
        digests = {each.path: hash_file(roots.absolute(PlacePath(each.path))) for each in files}
        return told, rows_as_known(
            known, entries, digests, roots, sheet.path_rules.test(sheet.players_own)
        )
    return _identity(home, roots, version), rows


def _identity(home: PackHome, roots: Roots, version: str) -> Identity:
    """Return what the game is: of the version that the pack was on. Raises StateFault."""
    sheet = catalog_of(home, read_pack_file(home)).sheet
    told = identify_now(sheet, roots)
    if told is not None and told.version.text != version:
        raise StateFault(
            f"the game is {told.version} now, and the pack was on {version}",
            hint=f"Put {version} back in the folder, by its store or from a copy; then try again.",
        )
    return told or identify(sheet, roots, stated=parse_version(version))


def _take_back(home: PackHome, journal: str, damaged: str) -> None:
    """Put everything back as it was before the rebuild."""
    if os.path.isdir(home.waiting_store):
        shutil.rmtree(home.originals_folder, ignore_errors=True)  # what was lent to it
        os.rename(home.waiting_store, home.originals_folder)
    if os.path.exists(journal):
        os.replace(journal, home.journal_file)
    os.unlink(home.state_file)
    if damaged:
        os.replace(damaged, home.state_file)


def _set_aside_damaged(home: PackHome) -> str:
    """Move a damaged database aside; return where it is. Raises NotDamaged."""
    if not os.path.exists(home.state_file):
        return ""
    try:
        state = open_state(home)
        whole = state.is_whole()
        state.close()
    except StateFault:
        whole = False
    if whole and not os.path.isdir(home.waiting_store):
        raise NotDamaged(
            f"the state of {home.folder} is not damaged", hint="There is nothing to rebuild."
        )
    damaged = f"{home.state_file}.damaged-{time.strftime('%Y%m%d-%H%M%S')}"
    os.replace(home.state_file, damaged)
    for ending in ("-journal", "-wal", "-shm"):
        if os.path.exists(home.state_file + ending):
            os.replace(home.state_file + ending, damaged + ending)
    return damaged


def _create(home: PackHome, roots: Roots, identity: Identity, rows: list[BaselineRow]) -> None:
    pack_id = marked_id(roots.game_folder) or new_id()
    marker = lay_marker(home, roots, pack_id)
    adopted = Adopted(pack_id=pack_id, folder=roots.game_folder)
    create_from_rows(home, adopted, identity, rows, marker)


def _lend(waiting: str, store: str) -> None:
    """Let the store have all that waits: mods' files may have to be made of it."""
    os.makedirs(store, exist_ok=True)
    for name in os.listdir(waiting) if os.path.isdir(waiting) else ():
        source, target = os.path.join(waiting, name), os.path.join(store, name)
        if not os.path.exists(target):
            try:
                os.link(source, target)
            except OSError:  # a file system without links
                shutil.copy2(source, target)


def _find_laid(opened: Session, shelf_folder: str) -> tuple[int, tuple[PlacePath, ...]]:
    """Note the files of the line-up that stand in the game; return how many, and the unsure ones."""
    store = opened.home.originals_folder
    _lend(opened.home.waiting_store, store)
    target, roots = Target(files={}, hidden={}), opened.roots
    if os.path.exists(opened.home.lock_file):
        with (
            Shelf(shelf_folder) as shelf,
            Preparing(opened, shelf, sweeps=False, as_noted=True, as_locked=True) as preparing,
        ):
            target, roots = preparing.preview().target, preparing.roots
    laid = _standing(target, roots)
    vanilla = opened.state.baseline(laid)
    rows, unsure = [], []
    for path, row in laid.items():
        entry = vanilla.get(path)
        under = entry.content if entry else None
        if under and not os.path.exists(os.path.join(store, under.digest)):
            unsure.append(path)
        rows.append(row._replace(under=under))
    opened.state.record(
        StateChange(
            id=new_id(),
            action="adopt --rebuild",
            laid=tuple(rows),
            no_longer_laid=(),
            kept=(),
            new_folders=tuple(_folders_of(opened, target, list(laid))),
            gone_folders=(),
            outside=tuple(roots.outside.items()),
            pack_texts=pack_texts(opened.home),
            is_found=True,
        )
    )
    return len(rows), tuple(unsure)


def _standing(target: Target, roots: Roots) -> dict[PlacePath, Laid]:
    """Return what a line-up laid: of each release of which a file stands as it would lay it, all files.

    A file of it that is changed or gone is noted as it was laid, so that every command sees that.
    """
    found: dict[PlacePath, Laid] = {}
    others: dict[PlacePath, Laid] = {}
    for path, file in sorted(target.files.items()):
        absolute = roots.absolute(path)
        base = file.base.digest if file.base else None
        row = Laid(path=path, owner=file.owner, content=None, under=None, role=file.role, base=base)
        if isinstance(file.file, Removal):
            (others if os.path.lexists(absolute) else found)[path] = row
            continue
        lost = Content(digest=file.file.digest, size=file.file.size, mode=PLAIN_MODE, mtime_ns=0)
        others[path] = row._replace(content=lost)
        if os.path.islink(absolute) or not os.path.isfile(absolute):
            continue
        status = os.lstat(absolute)
        digest = hash_file(absolute)
        # A file that the user may change is the release's whatever it holds.
        if digest == file.file.digest or file.role:
            content = Content(
                digest=digest,
                size=status.st_size,
                mode=status.st_mode & 0o7777,
                mtime_ns=status.st_mtime_ns,
            )
            found[path] = row._replace(content=content)
    there = {
        row.owner for path, row in found.items() if not isinstance(target.files[path].file, Removal)
    }
    return {path: row for path, row in others.items() if row.owner in there} | found


def _folders_of(opened: Session, target: Target, laid: list[PlacePath]) -> list[PlacePath]:
    """Return the folders that must be Rellum's: above what is laid, and not vanilla."""
    from rellum.core.values.paths import is_in_game, parents

    folders = {f for path in laid if is_in_game(path) for f in parents(path)} - {PlacePath("@game")}
    folders |= {each for each in target.folders if os.path.isdir(opened.roots.absolute(each))}
    return sorted(folders - opened.state.baseline(folders).keys())


def _unfinished_steps(journal: str) -> tuple[Step, ...]:
    """Return the steps of an interrupted change; of a damaged journal those that can be relied on."""
    try:
        unfinished = read_journal(journal)
    except JournalDamaged as damage:
        return damage.salvage.journal.steps
    except NewerJournal:
        return ()
    return unfinished.steps if unfinished else ()


def _bring_back_store(home: PackHome, journal: str) -> tuple[str, int]:
    """Leave in the store what is needed of it, and move the rest into a folder of its own."""
    waiting, store = home.waiting_store, home.originals_folder
    if not os.path.isdir(waiting):
        return "", 0
    state = open_state(home)
    needed: set[Digest] = set(state.needed_counts())
    state.close()
    for step in _unfinished_steps(journal):
        needed |= {content.digest for content in (step.before, step.after) if content}
    rescued = os.path.join(home.state_folder, f"rescued-{time.strftime('%Y%m%d-%H%M%S')}")
    count = 0
    for name in os.listdir(waiting):
        if name in needed:
            os.unlink(os.path.join(waiting, name))
        else:
            os.makedirs(rescued, exist_ok=True)
            os.replace(os.path.join(waiting, name), os.path.join(rescued, name))
            os.unlink(os.path.join(store, name))
            count += 1
    os.rmdir(waiting)
    return rescued if count else "", count
