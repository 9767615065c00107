"""The hunt for the mod that breaks a pack: lay what is asked for, take answers, end with the culprits."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from typing import Literal

from rellum.core.actions.live.trial import record_trial
from rellum.core.catalog.model import Catalog
from rellum.core.change.activities import refuse_activities
from rellum.core.change.backing_up import back_up
from rellum.core.change.execute import execute
from rellum.core.change.looking import drift_of
from rellum.core.change.opening import open_pack
from rellum.core.change.preparing import Preparing
from rellum.core.change.request import Request
from rellum.core.change.switching import own_operations, with_own_files
from rellum.core.composing.needed import release_of
from rellum.core.errors import RellumError
from rellum.core.hashing import hash_bytes
from rellum.core.hunting.hunt import Answer, Found, Hunter, Question
from rellum.core.hunting.mods import ModSet, PackMods
from rellum.core.hunting.stage import Rates
from rellum.core.notices import note
from rellum.core.pack.backups import Backups
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, read_text, write_text
from rellum.core.pack.hunt_log import (
    HuntFault,
    HuntStart,
    begin_log,
    end_log,
    hunt_file,
    note_answer,
    note_asked,
    read_log_of_hunt,
    refuse_second,
)
from rellum.core.pack.lock_file import LockFile, lock_text, read_lock_text
from rellum.core.pack.session import Session
from rellum.core.shelf.store import Shelf
from rellum.core.values.ids import ReleaseName
from rellum.core.values.owners import mod_of
from rellum.core.values.paths import PlacePath

GRAFT = "graft:"
"""Begins what a hunt calls a graft, which comes and goes as a mod does."""

_CHANGED, _SHARES = 10.0, 3.0
"""How much more suspicious a mod is that changed since the pack worked, or lays files beside such a one's."""


@dataclass(frozen=True, slots=True, kw_only=True)
class HuntState:
    """Where a hunt stands: the open question, or how it ended. ``rounds`` have been answered."""

    rounds: int
    question: Question | None
    found: Found | None
    mods: int


@dataclass(frozen=True, slots=True, kw_only=True)
class HuntEnd:
    """How a hunt ended, with what its culprits do to one another, and trials that were recorded.

    ``instead`` are the releases, before and after, that the next ``resolve`` would choose anew; empty
    where no line-up has all wants without the culprits together.
    """

    found: Found
    relations: tuple[str, ...]
    trials: int
    instead: tuple[tuple[ReleaseName, ReleaseName], ...] = ()


def begin_hunt(request: Request, rates: Rates) -> HuntState:
    """Begin a hunt in what is laid. Raises HuntFault where there is nothing to hunt in, or a hunt."""
    with open_pack(request) as opened:
        opened.state.refuse_unfit()
        lock = opened.files.lock
        laid = {each.mod for each in opened.state.releases_laid()}
        order: list[str] = [each.mod for each in lock.releases if each.mod in laid]
        order += [f"{GRAFT}{graft.name}" for graft in opened.files.pack.grafts]
        if not order:
            raise HuntFault(
                "the game has no mods, so there is nothing to hunt for",
                hint="If vanilla breaks, 'rellum check --deep' looks at its files.",
            )
        refuse_second(opened.home)
        refuse_activities(opened.home, opened.state, "hunt")
        _refuse_waiting(opened, lock)
        kept = back_up(opened.home, opened.rules, opened.state, opened.roots, "hunt", always=True)
        begin_log(opened.home, _start(opened, order, lock, rates, kept.number))
    return hunt_state(request)


def _refuse_waiting(opened: Session, lock: LockFile) -> None:
    """Refuse to hunt in a line-up that is not the one in the game. Raises HuntFault."""
    in_game = {each.mod: each for each in opened.state.releases_laid()}
    known = {each.mod for each in lock.releases} | {each.name for each in opened.files.pack.grafts}
    wait = [each.mod for each in lock.releases if in_game.get(each.mod, each.name) != each.name]
    wait += [mod for mod in in_game if mod not in known]
    if wait:
        raise HuntFault(
            f"the game does not have the mods that rellum.lock has: {', '.join(sorted(wait)[:5])}",
            hint="A hunt looks for what breaks in the line-up: run 'rellum apply' first.",
        )


def _start(
    opened: Session, order: Sequence[str], lock: LockFile, rates: Rates, backup: int
) -> HuntStart:
    text = read_text(opened.home.lock_file) or ""
    return HuntStart(
        order=tuple(order),
        needs=_needs(lock, opened.files.catalog, set(order)),
        likely=_likely(opened, lock, order),
        miss=rates.miss,
        alarm=rates.alarm,
        lock_digest=hash_bytes(text.encode("utf-8", "surrogateescape")),
        backup=backup,
        of_mods=tuple(opened.state.laid_with_role()),
    )


def _needs(lock: LockFile, catalog: Catalog, known: set[str]) -> dict[str, list[str]]:
    """Return what each mod of a line-up needs of it: of alternatives, one that is in it."""
    found: dict[str, list[str]] = {}
    releases = [release_of(each, catalog) for each in lock.releases]
    stand_ins = {
        offer.mod: release.mod for release in releases if release for offer in release.offers
    }
    for release in releases:
        for need in release.needs if release else ():
            ids = [each.mod for each in need.any_of]
            here = [each if each in known else stand_ins.get(each, "") for each in ids]
            first = next((each for each in here if each in known), None)
            if first and release and first != release.mod:
                found.setdefault(release.mod, []).append(first)
    return found


def _likely(opened: Session, lock: LockFile, order: Sequence[str]) -> dict[str, float]:
    """Return how suspicious each mod is: more where it changed since the pack last worked."""
    checkpoints = opened.state.checkpoints
    good = next((each for each in checkpoints.all() if each.good), None)
    text = dict(checkpoints.texts_of(good.number)).get(LOCK_FILE) if good else None
    then = read_lock_text(text, LOCK_FILE) if text else None
    if then is None:
        return {}
    before = {each.mod: each.label for each in then.releases}
    changed = {each.mod for each in lock.releases if before.get(each.mod) != each.label}
    weights = dict.fromkeys(order, 1.0)
    weights |= {mod: _CHANGED for mod in changed if mod in weights}
    touched = {path for mod in changed for path in opened.state.laid_by(mod)}
    folders = {path.rpartition("/")[0] for path in touched}
    for mod in order:
        if mod not in changed and any(
            path.rpartition("/")[0] in folders for path in opened.state.laid_by(mod)
        ):
            weights[mod] = _SHARES
    return weights


def hunt_state(request: Request) -> HuntState:
    """Replay the log, and return what is open. Raises HuntFault."""
    with open_pack(request) as opened:
        return _replayed(opened)[1]


def is_hunting(request: Request) -> bool:
    """Whether a hunt is under way in a pack."""
    from rellum.core.pack.home import pack_home

    return os.path.exists(hunt_file(pack_home(request.pack_folder)))


def _replayed(opened: Session) -> tuple[HuntStart, HuntState]:
    start, rounds = read_log_of_hunt(opened.home)
    pack = PackMods(start.order, start.needs)
    run = Hunter(pack, Rates(start.miss, start.alarm), start.likely).run()
    question: Question | None = next(run)
    found: Found | None = None
    answered = 0
    for each in rounds:
        assert question is not None
        if not each.answer:
            break
        if frozenset(each.mods) != question.mods:
            raise HuntFault(
                "the log of the hunt does not fit this Rellum",
                hint="Give it up with 'rellum hunt --stop', and begin again.",
            )
        answered += 1
        try:
            question = run.send(_as_answer(each.answer))
        except StopIteration as stop:
            question, found = None, stop.value
            break
    state = HuntState(rounds=answered, question=question, found=found, mods=len(start.order))
    return start, state


def _as_answer(text: str) -> Answer:
    return "works" if text == "works" else "breaks" if text == "breaks" else "other"


def lay_question(request: Request) -> HuntState:
    """Lay the set of the open question, with the settings and saves of the beginning.

    Nothing happens where it is laid already. Raises what ``apply`` does, HuntFault.
    """
    with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
        start, state = _replayed(opened)
        if state.question is not None:
            _refuse_other_line_up(opened, start)
            _, rounds = read_log_of_hunt(opened.home)
            if not rounds or rounds[-1].answer:
                note_asked(opened.home, sorted(state.question.mods))
            _lay(opened, shelf, start, state.question.mods, request)
        return state


def _refuse_other_line_up(opened: Session, start: HuntStart) -> None:
    text = (read_text(opened.home.lock_file) or "").encode("utf-8", "surrogateescape")
    if hash_bytes(text) != start.lock_digest:
        raise HuntFault(
            "the line-up is another than when the hunt was begun",
            hint="Give it up with 'rellum hunt --stop', and begin again.",
        )


def _lay(opened: Session, shelf: Shelf, start: HuntStart, mods: ModSet, request: Request) -> None:
    """Lay some mods of the line-up, and the player's files as they were at the beginning."""
    with (
        _with_only(opened, mods) as then,
        Preparing(then, shelf, False, as_locked=True, listen=request.listen) as preparing,
        Backups(opened.home.backups_folder) as backups,
    ):
        planned = preparing.decided(None)
        plan = planned.plan
        with suppress(RellumError):
            backup = backups.find(str(start.backup))
            of_mods = frozenset(map(PlacePath, start.of_mods))
            own = own_operations(
                opened, preparing.roots, plan, backups, backup, saves_too=True, of_mods=of_mods
            )
            plan = with_own_files(plan, own, opened, backups)
        if not plan.is_empty:
            site = opened.site._replace(listen=request.listen, roots=preparing.roots)
            execute(plan, "hunt", site, preparing.workshop)


@contextmanager
def _with_only(opened: Session, mods: ModSet) -> Iterator[Session]:
    """Open the pack as if its line-up had only these mods and grafts."""
    import tomlkit

    work = os.path.join(opened.home.state_folder, "hunt-texts")
    shutil.rmtree(work, ignore_errors=True)
    os.makedirs(work)
    try:
        document = tomlkit.parse(read_text(opened.home.pack_file) or "")
        grafts = document.get("graft", [])
        for index in reversed(range(len(grafts))):
            if f"{GRAFT}{grafts[index].get('name')}" not in mods:
                del grafts[index]
        if "graft" in document and not len(document["graft"]):
            del document["graft"]
        write_text(os.path.join(work, PACK_FILE), tomlkit.dumps(document))
        lock = opened.files.lock
        kept = tuple(each for each in lock.releases if each.mod in mods)
        stay = tuple(each for each in lock.grafts if f"{GRAFT}{each.mod}" in mods)
        text = lock_text(replace(lock, releases=kept, grafts=stay))
        write_text(os.path.join(work, LOCK_FILE), text)
        yield opened.with_files_of(opened.home._replace(texts_folder=work))
    finally:
        shutil.rmtree(work, ignore_errors=True)


def answer_question(request: Request, answer: Answer, words: str = "") -> HuntState:
    """Take the answer to the open question, and return what is next. Raises HuntFault."""
    with open_pack(request) as opened:
        _, rounds = read_log_of_hunt(opened.home)
        if not rounds or rounds[-1].answer:
            raise HuntFault(
                "nothing was laid yet to be answered for", hint="'rellum hunt' lays what is next."
            )
        _refuse_not_laid(opened, rounds[-1].mods)
        note_answer(opened.home, answer, words)
        return _replayed(opened)[1]


def _refuse_not_laid(opened: Session, asked: Sequence[str]) -> None:
    """Refuse an answer about mods that are not those in the game, as they were laid. Raises HuntFault."""
    laid = {each.mod for each in opened.state.releases_laid()}
    start, _ = read_log_of_hunt(opened.home)
    others = laid.intersection(each.removeprefix(GRAFT) for each in start.order)
    differs = others ^ {each.removeprefix(GRAFT) for each in asked}
    drift = drift_of(opened).findings
    differs |= {mod_of(each.owner) for each in drift if each.kind != "foreign" and each.owner}
    if differs:
        raise HuntFault(
            "what was asked about is not in the game as it was laid: "
            + ", ".join(sorted(differs)[:5]),
            hint="'rellum hunt' lays it again, and asks again.",
        )


def end_hunt(request: Request) -> HuntEnd | None:
    """Lay the whole pack again, with settings and saves as at the beginning, and record what was found.

    None where the hunt is given up. Raises what ``apply`` does.
    """
    with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
        start, state = _replayed(opened)
        _refuse_other_line_up(opened, start)
        _lay(opened, shelf, start, frozenset(start.order), request)
        relations = tuple(_relations(opened, shelf, start, state.found)) if state.found else ()
        end_log(opened.home)
        lock = opened.files.lock
    if state.found is None:
        return None
    trials = _record(request, state.found, lock, start)
    return HuntEnd(
        found=state.found,
        relations=relations,
        trials=trials,
        instead=_instead(request, lock) if trials else (),
    )


def _instead(request: Request, lock: LockFile) -> tuple[tuple[ReleaseName, ReleaseName], ...]:
    """Return what the next line-up would have instead of releases of this one, now that trials stand."""
    from rellum.core.composing.line_up import line_up_of

    try:
        with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
            other = {each.mod: each.name for each in line_up_of(opened, shelf, ()).releases}
    except RellumError:  # none, or a file that cannot be read: then there is nothing to propose
        return ()
    pairs = ((each.name, other.get(each.mod)) for each in lock.releases)
    return tuple((before, after) for before, after in pairs if after and after != before)


def drop_hunt(request: Request) -> None:
    """Forget a hunt whose log cannot be used; lay nothing. Raises HuntFault where there is none."""
    with open_pack(request) as opened:
        if not os.path.exists(hunt_file(opened.home)):
            raise HuntFault("no hunt is under way", hint="'rellum hunt' begins one.")
        end_log(opened.home)


def _record(request: Request, found: Found, lock: LockFile, start: HuntStart) -> int:
    """Record the culprits as trials that break, and the pack that worked as one that works."""
    versions: dict[str, str] = {each.mod: each.version for each in lock.releases}
    count = 0
    if found.ending != "found":
        return 0
    outcomes: list[tuple[Literal["works", "breaks"], ModSet]] = [
        ("breaks", each) for each in found.culprits
    ]
    outcomes += [("works", found.fixed)] if found.fixed else []
    for outcome, mods in outcomes:
        named = [f"{mod}@{versions[mod]}" for mod in start.order if mod in mods and mod in versions]
        grafts = [mod.removeprefix(GRAFT) for mod in mods if mod.startswith(GRAFT)]
        if not named and not grafts:
            continue
        try:
            record_trial(request, outcome, named, note="found by a hunt", grafts=grafts)
            count += 1
        except RellumError as error:
            note(f"a trial was not recorded: {error.summary}")
    return count


def _relations(opened: Session, shelf: Shelf, start: HuntStart, found: Found) -> Iterator[str]:
    """Tell what the culprits do to one another: needs, and files that several of them bring or edit."""
    from rellum.core.composing.known_folders import known_folders
    from rellum.core.composing.layering import LineUpInputs, find_layers
    from rellum.core.composing.winners import winners_of
    from rellum.core.composing.workshop import Workshop
    from rellum.core.layers.contested_paths import find_conflicts
    from rellum.core.values.paths import shown

    pack, catalog = opened.files.pack, opened.files.catalog
    for culprits in found.culprits:
        for mod in sorted(culprits):
            for need in sorted(set(start.needs.get(mod, ())) & culprits):
                yield f"{mod} needs {need}"
    if not any(len(each) > 1 for each in found.culprits):
        return
    with (
        suppress(RellumError),
        Workshop(opened, shelf, opened.roots, catalog.sheet.path_rules) as workshop,
    ):
        line_up = LineUpInputs(
            lock=opened.files.lock,
            pack=pack,
            catalog=catalog,
            workshop=workshop,
            known=known_folders(opened.state, catalog.sheet, pack),
        )
        contested = find_conflicts(find_layers(line_up).layers, winners_of(pack, catalog))
        for culprits in found.culprits:
            for each in contested.conflicts:
                both = sorted({*each.mods, *each.edited_by} & culprits)
                if len(both) > 1 and not each.is_same:
                    yield f"{' and '.join(both)} both change {shown(each.path)}; {each.winner} wins"
