"""Opening a pack: lock, state, and the recovery of whatever was interrupted."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from rellum.core.change.request import OnRecovered, Request
from rellum.core.errors import UserError
from rellum.core.folder.stamps import second_journal
from rellum.core.pack.folder_rules import LAID_SINCE, NOTE, FolderRules, read_rules
from rellum.core.pack.home import PackHome, pack_home
from rellum.core.pack.lost_state import StateFault
from rellum.core.pack.open_state import open_state
from rellum.core.pack.pack_files import PackFiles
from rellum.core.pack.pack_lock import hold_pack
from rellum.core.pack.pending_follow import is_pending
from rellum.core.pack.session import Session
from rellum.core.pack.state import Adopted, State
from rellum.core.values.paths import PlacePath, Roots

if TYPE_CHECKING:
    from rellum.core.pack.site import Site


class GameGone(UserError):
    """The game folder is not where it was adopted."""

    code = "game-gone"


@contextmanager
def open_pack(
    request: Request, *, making_anew: bool = False, leaves_journal: bool = False
) -> Iterator[Session]:
    """Hold a pack until the block ends; an interrupted change is ended first.

    ``making_anew``: this process is rebuilding its state. ``leaves_journal``: the caller sees to that
    change.

    Raises NoPack, StateFault, PackBusy, GameGone, StillBroken.
    """
    home = pack_home(request.pack_folder)
    if not os.path.isfile(home.state_file):
        open_state(home).close()  # raises, with the reason
    if os.path.isdir(home.waiting_store) and not making_anew:
        raise StateFault(
            f"the state of {home.folder} was being rebuilt, and that was interrupted",
            hint="Start again: rellum adopt GAME --rebuild",
        )
    with hold_pack(home):
        state = open_state(home)
        files = PackFiles(home)
        try:
            adopted = state.adopted()
            if not os.path.isdir(adopted.folder):
                adopted = _found_again(files, state, adopted)
            laid_in = Roots(adopted.folder, state.outside())
            opened = Session(
                home=home,
                files=files,
                adopted=adopted,
                state=state,
                roots=laid_in,
                disk=request.disk,
                rules=FolderRules(),
                even_if_running=request.even_if_running,
            )
            if not os.path.exists(home.vanilla_file):  # a pack of an older Rellum
                from rellum.core.pack.new_state import write_vanilla

                state.refuse_damaged()
                write_vanilla(home, state)
            journals = (home.journal_file, second_journal(adopted.folder))
            if not making_anew and any(map(os.path.exists, journals)):
                state.refuse_damaged()
                if not leaves_journal:
                    _recover(opened.site, request.on_recovered)
            if is_pending(home) and not request.follows and not making_anew:
                from rellum.core.pack.pending_follow import end_pending

                end_pending(home, state)
                opened = opened.with_files_of(home)
            yield _with_rules(opened)
            state.refuse_damaged()  # what was read of it may not be so
        except Exception as error:
            _refuse_damaged(state, error)
            raise
        finally:
            state.close()


@contextmanager
def hold_for_edit(request: Request) -> Iterator[PackHome]:
    """Hold a pack whose rellum.toml is to be edited, with its game or without.

    What was interrupted is ended first: else its end would take the edit away. Raises what ``open_pack`` does
    where something was interrupted, else NoPack, PackBusy.
    """
    home = pack_home(request.pack_folder)
    if os.path.exists(home.journal_file) or is_pending(home):
        with open_pack(request):
            pass
    if not os.path.isdir(home.state_folder):
        yield home
        return
    with hold_pack(home):
        yield home


def _refuse_damaged(state: State, error: Exception) -> None:
    """Tell an error by its cause, where a damaged state is that."""
    try:
        state.refuse_damaged()
    except StateFault as fault:
        raise fault from error


def _with_rules(opened: Session) -> Session:
    """Return the pack with its rules, and with every place that they name.

    A place in which something is laid stays where it was.
    """
    state = opened.state
    rules = read_rules(state.note(NOTE))
    if not rules.are_current() or state.note(LAID_SINCE):
        from rellum.core.pack.reread_rules import (
            read_rules_anew,  # rare: a file of the pack changed
        )

        rules = read_rules_anew(opened.files, state, rules)
    laid_in = {
        root: folder
        for root, folder in state.outside().items()
        if root not in rules.outside or state.laid_below(PlacePath(root))
    }
    roots = Roots(opened.adopted.folder, {**rules.outside, **laid_in})
    return opened._replace(rules=rules, roots=roots)


def _found_again(files: PackFiles, state: State, adopted: Adopted) -> Adopted:
    """Look for a game folder that was moved, by its marker, and note where it is. Raises GameGone.

    It is looked for where rellum.toml names it, and beside where it was and where the pack is.
    """
    from rellum.core.pack.marker import marked_id
    from rellum.core.pack.pack_edits import write_folder

    home = files.home
    named = files.pack.game_folder
    places = [named] if named else []
    for above in {os.path.dirname(adopted.folder), os.path.dirname(home.folder)}:
        if os.path.isdir(above):
            with os.scandir(above) as found:
                places += sorted(each.path for each in found if each.is_dir())
    moved = next((each for each in places if marked_id(each) == adopted.pack_id), None)
    if moved is None and named and os.path.isdir(named) and not marked_id(named):
        moved = (
            named  # a game that was restored bears no marker, but the user says that it is the one
        )
    if moved is None:
        raise GameGone(
            f"the game folder {adopted.folder} is not there",
            hint="Put it back, connect its disk, or say where it is: rellum decide game-folder FOLDER",
        )
    adopted = adopted._replace(folder=os.path.abspath(moved))
    state.set_folder(adopted.folder)
    write_folder(home, adopted.folder)
    return adopted


def _recover(site: Site, on_recovered: OnRecovered) -> None:
    """Bring an interrupted change to its end; imported only when there is one, as it is rare."""
    from rellum.core.change.recover import recover

    recovered = recover(site)
    if recovered:
        on_recovered(recovered)
