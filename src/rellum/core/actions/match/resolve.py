"""Resolve: from wants and cards to the line-up in rellum.lock."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from rellum.core.actions.match.resolved_again import note_resolved
from rellum.core.catalog.load import find_mod
from rellum.core.catalog.model import Mod, OptionGroup
from rellum.core.change.activities import refuse_activities
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.composing.in_folder import InFolder
from rellum.core.composing.known_folders import known_folders
from rellum.core.composing.line_up import AT_ONCE, Explaining, _as_lock, solve_or_raise
from rellum.core.composing.needed import NeededFile, missing_among, needed_files
from rellum.core.composing.pack_problem import (
    PackProblem,
    problem_of,
)
from rellum.core.notices import is_quiet
from rellum.core.pack.lock_file import LockFile, write_lock
from rellum.core.pack.pack_edits import set_want
from rellum.core.pack.pack_file import WantLine
from rellum.core.pack.session import Session
from rellum.core.shelf.store import Shelf
from rellum.core.values.ids import ModId

Choose = Callable[[Mod, OptionGroup], "str | None"]
"""Asks which choice of an option group is meant; None where nobody is there to answer."""


def choose_none(_: Mod, __: OptionGroup) -> None:
    """Nobody is there."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ResolveResult:
    """The line-up, and the versions of the one before it (None: there was none).

    ``notes`` are conditions outside Rellum's reach, to be checked by hand; ``left_out`` the optional
    wants that could not be had. ``is_for_other_game``: it is not for the game version in the folder.
    ``unchosen`` are option groups without a default that nobody chose of: the first choice is taken.
    """

    lock: LockFile
    before: dict[ModId, str] | None
    changed: bool
    missing_files: tuple[NeededFile, ...]
    needed_files: tuple[NeededFile, ...]
    notes: tuple[tuple[ModId, str], ...]
    left_out: tuple[ModId, ...]
    is_for_other_game: bool
    unchosen: tuple[tuple[ModId, OptionGroup], ...]


def resolve(
    request: Request,
    *,
    fresh: bool = False,
    fresh_mods: Sequence[str] = (),
    choose: Choose = choose_none,
    explaining: Explaining = AT_ONCE,
    tell_again: Callable[[ResolveResult], str] | None = None,
) -> ResolveResult:
    """Find the line-up and write it.

    ``fresh``: do not keep to the releases that stand; with ``fresh_mods`` only not to those.
    ``choose`` is asked once for each option of a wanted mod that has no default; its answers are
    written into rellum.toml. ``tell_again`` says what is to be told when nothing changed until the next time;
    ``resolved_again`` gives it back.

    Raises NoLineUpExists, UnknownMod, and what reading can raise.
    """
    with open_pack(request) as opened:
        refuse_activities(opened.home, opened.state, "resolve")
        result, catalogs = _resolved(opened, request, fresh, fresh_mods, choose, explaining)
        uses_folder = any(each.in_folder for each in result.needed_files)
        if tell_again and not result.unchosen and not uses_folder and is_quiet():
            again = replace(
                result,
                before={each.mod: each.label for each in result.lock.releases},
                changed=False,
            )
            note_resolved(opened.home, catalogs, request.shelf_folder, tell_again(again))
    return result


def _resolved(
    opened: Session,
    request: Request,
    fresh: bool,
    fresh_mods: Sequence[str],
    choose: Choose,
    explaining: Explaining,
) -> tuple[ResolveResult, tuple[str, ...]]:
    """Find the line-up and write it; return with it the folders of the catalogs."""
    with Shelf(request.shelf_folder) as shelf:
        lifted = None if fresh and not fresh_mods else tuple(map(ModId, fresh_mods))
        asked = problem_of(opened, fresh=lifted)
        unchosen = _open_choices(asked)
        if unchosen and _remember_choices(asked, unchosen, choose):
            asked = problem_of(opened.with_files_of(opened.home), fresh=lifted)
            unchosen = _open_choices(asked)
        for mod in fresh_mods:
            find_mod(asked.catalog, mod)
        line_up = solve_or_raise(asked.problem, explaining)
        lock = _as_lock(asked, line_up, shelf)
        changed = write_lock(opened.home, lock)
        shelf.index.add_pack(opened.home.folder)
        known = known_folders(opened.state, asked.catalog.sheet, asked.pack)
        in_folder = InFolder(opened.state, opened.roots, known)
        needed = tuple(needed_files(lock, asked.catalog, shelf, in_folder))
    old = asked.lock
    result = ResolveResult(
        lock=lock,
        before={each.mod: each.label for each in old.releases} if old else None,
        changed=changed,
        missing_files=missing_among(needed),
        needed_files=needed,
        notes=tuple(
            (each.release.mod, note)
            for each in line_up.chosen
            for note in each.release.check_by_hand
        ),
        left_out=tuple(want.mod for want in line_up.left_out),
        is_for_other_game=lock.game_version != asked.identity.version,
        unchosen=tuple((line.mod, group) for line, group in unchosen),
    )
    return result, asked.catalog.folders


def _open_choices(asked: PackProblem) -> list[tuple[WantLine, OptionGroup]]:
    """Return the option groups of wanted mods that are not chosen and that have no default."""
    found = []
    for line in asked.pack.wants:
        mod = asked.catalog.mods.get(line.mod)
        said = dict(line.options)
        for group in mod.options if mod else ():
            if group.pick == "one" and not group.default and group.id not in said:
                found.append((line, group))
    return found


def _remember_choices(
    asked: PackProblem, unchosen: Sequence[tuple[WantLine, OptionGroup]], choose: Choose
) -> bool:
    """Ask for each, and write the answers into rellum.toml; say whether there were any."""
    chosen: dict[ModId, WantLine] = {}
    for line, group in unchosen:
        answer = choose(asked.catalog.mods[line.mod], group)
        if answer is not None:
            before = chosen.get(line.mod, line)
            chosen[line.mod] = replace(before, options=(*before.options, (group.id, (answer,))))
    for line in chosen.values():
        set_want(asked.home, line)
    return bool(chosen)
