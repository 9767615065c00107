"""Play: start the game, keep the end of its log, compare it with the line-up, record how it went."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from rellum.core.actions.live.trial import record_trial
from rellum.core.actions.mend.rewind import make_checkpoint
from rellum.core.catalog.model import Release
from rellum.core.catalog.play_rules import LogRules, PlayRule
from rellum.core.change.looking import drift_of
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.change.running import find_running
from rellum.core.composing.needed import release_of
from rellum.core.errors import RellumError, UserError
from rellum.core.folder.play_log import (
    KEPT_BYTES,
    MOST_BYTES,
    LogComparison,
    LogReading,
    compare_with_line_up,
    read_log,
)
from rellum.core.nearest import nearest
from rellum.core.notices import note
from rellum.core.pack.home import LOCK_FILE, PackHome
from rellum.core.pack.lock_file import LockFile, read_lock_text
from rellum.core.pack.plays import Play, add_play, read_plays
from rellum.core.pack.session import Session
from rellum.core.pack.variants import VANILLA
from rellum.core.values.paths import PlacePath, Roots, shown

if TYPE_CHECKING:
    import subprocess

_LOOKS_EVERY = 0.2
"""Seconds between two looks whether a program that the game started still runs."""

_PATIENCE = 3.0
"""Seconds that a game has to end by itself after it was asked to."""

Outcome = Literal["works", "breaks", ""]


class CannotPlay(UserError):
    """The game, or a program for it, cannot be started."""

    code = "cannot-play"


@dataclass(frozen=True, slots=True, kw_only=True)
class Stage:
    """A game that can be started. ``look_at`` is what a person looks at, by whom it is said.

    ``by`` is the release that brings the program, empty for the game's own; ``drift`` counts differences in
    the folder; ``told`` are the mods that a log can name: resource packs are loaded without a word.
    """

    program: str
    arguments: tuple[str, ...]
    folder: str
    environment: Mapping[str, str]
    by: str
    look_at: tuple[tuple[str, str], ...]
    drift: int
    log: str
    rules: LogRules
    game_folder: str
    variant: str
    game: str
    line_up: Mapping[str, str]
    told: frozenset[str]
    grafts: tuple[str, ...]
    own_ids: Mapping[str, str]


@dataclass(frozen=True, slots=True, kw_only=True)
class Run:
    """What came of a start. ``status`` None: it was ended by the limit. ``log`` is the end of its log."""

    seconds: float
    status: int | None
    log: str
    reading: LogReading
    comparison: LogComparison

    @property
    def verdict(self) -> Outcome:
        """What the log and the exit status say; empty where they do not tell."""
        if self.reading.verdict:
            return self.reading.verdict
        return "breaks" if self.status not in (0, None) else ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Said:
    """How it went, by a person or by the log: an outcome, and perhaps a word (``works, but …``)."""

    outcome: Outcome
    word: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class PlayResult:
    """What was recorded. ``trial`` is whether a trial was, ``checkpoint`` the one that was marked good.

    ``unrecorded`` says why nothing could be; empty where something was.
    """

    stage: Stage
    run: Run
    said: Said
    trial: bool
    checkpoint: int | None
    unrecorded: str = ""


def play(
    request: Request,
    announce: Callable[[Stage], bool],
    ask: Callable[[Stage, Run], Said],
    *,
    with_: str = "",
    limit: float | None = None,
) -> PlayResult | None:
    """Start the game and record how it went. None where ``announce`` says no.

    ``with_`` is the mod whose program is started, or ``game``; ``limit`` ends it after so many seconds.
    Raises CannotPlay, PatternTooSlow.
    """
    stage = find_stage(request, with_)
    if not announce(stage):
        return None
    run = start(stage, limit)
    said = ask(stage, run)
    return record(request, stage, run, said)


def find_stage(request: Request, with_: str = "") -> Stage:
    """Find out what is started, and what a person looks at. Raises CannotPlay."""
    with open_pack(request) as opened:
        catalog, pack = opened.files.catalog, opened.files.pack
        lock = opened.files.lock_if_any
        releases = _laid_releases(opened, lock)
        rule, by = _chosen_rule(opened, releases, lock, with_)
        program = opened.roots.absolute(rule.program)
        _refuse_unfit(rule, program)
        folder = opened.roots.absolute(rule.folder) if rule.folder else os.path.dirname(program)
        rules = catalog.sheet.log
        return Stage(
            program=program,
            arguments=rule.arguments,
            folder=folder,
            environment=dict(rule.environment),
            by=by,
            look_at=tuple(_look_at(opened, pack.look_at, releases)),
            drift=len(drift_of(opened).findings),
            log=_log_file(rules.file, opened.roots),
            rules=rules,
            game_folder=opened.roots.game_folder,
            variant=pack.variant,
            game=opened.state.identity().version.text,
            line_up={each.mod: each.version.text for each in releases},
            told=frozenset(
                each.mod for each in releases if catalog.mods[each.mod].kind != "resource-pack"
            ),
            grafts=tuple(graft.name for graft in pack.grafts),
            own_ids={
                mod.id: mod.own_id
                for mod in catalog.mods.values()
                if mod.own_id and any(each.mod == mod.id for each in releases)
            },
        )


def _laid_releases(opened: Session, lock: LockFile | None) -> list[Release]:
    """Return the releases of the line-up that are in the game, in load order."""
    laid = {each.mod for each in opened.state.releases_laid()}
    found = (release_of(each, opened.files.catalog) for each in lock.releases) if lock else ()
    return [each for each in found if each and each.mod in laid]


def _log_file(path: PlacePath | None, roots: Roots) -> str:
    if path is None:
        return ""
    try:
        return roots.absolute(path)
    except KeyError:
        return ""


def _chosen_rule(
    opened: Session, releases: list[Release], lock: LockFile | None, with_: str
) -> tuple[PlayRule, str]:
    """Return the program to start, and the release that brings it. Raises CannotPlay."""
    options = {each.mod: dict(each.options) for each in lock.releases} if lock else {}
    brought = [
        (rule, release)
        for release in releases
        for rule in release.plays
        if all(
            set(chosen) & set(options.get(release.mod, {}).get(group, ()))
            for group, chosen in rule.options
        )
    ]
    own = opened.files.catalog.sheet.play
    if with_ and with_ != "game":
        fitting = [each for each in brought if each[1].mod == with_]
        if not fitting:
            names = [release.mod for _, release in brought]
            raise CannotPlay(
                f"no release of {with_!r} in the game brings a program to start{nearest(with_, names)}",
                hint=f"There are: {', '.join(['game', *names])}." if names else "",
            )
        return fitting[-1][0], fitting[-1][1].name
    if brought and with_ != "game":
        return brought[-1][0], brought[-1][1].name
    if own is None:
        raise CannotPlay(
            "the game sheet does not say how the game is started",
            hint='Add to the sheet: [play] program = "@game/start.bin"',
        )
    return own, ""


def _refuse_unfit(rule: PlayRule, program: str) -> None:
    if not os.path.isfile(program):
        raise CannotPlay(
            f"the program {shown(rule.program)} is not there",
            hint="'rellum check' tells what else is missing.",
        )
    if not program.endswith(".py") and not os.access(program, os.X_OK):
        raise CannotPlay(
            f"the program {shown(rule.program)} may not be run: it is not executable",
            hint="Set its permission to run, or correct 'program' in the sheet or the card.",
        )


def _look_at(
    opened: Session, packs: tuple[str, ...], releases: list[Release]
) -> list[tuple[str, str]]:
    """Return what to look at: the pack's list, and that of each mod that changed since it last worked."""
    good = next((each for each in opened.state.checkpoints.all() if each.good), None)
    text = dict(opened.state.checkpoints.texts_of(good.number)).get(LOCK_FILE) if good else None
    then = read_lock_text(text, LOCK_FILE) if text else None
    before = {each.mod: each.version for each in then.releases} if then else {}
    found = [("the pack", each) for each in packs]
    for release in releases:
        if before.get(release.mod) != release.version.text:
            found += [(release.name, each) for each in release.check_by_hand]
    return found


def start(stage: Stage, limit: float | None) -> Run:
    """Start the program, wait until it and what it started have ended, and read the log.

    Raises CannotPlay.
    """
    import subprocess

    words = [stage.program, *stage.arguments]
    if stage.program.endswith(".py"):
        words.insert(0, sys.executable)
    begun_at = time.time()
    begun = time.monotonic()
    with tempfile.TemporaryFile(prefix="rellum-") as printed:
        try:
            process = subprocess.Popen(
                words,
                cwd=stage.folder,
                env={**os.environ, **stage.environment},
                stdin=subprocess.DEVNULL,
                stdout=printed,
                stderr=subprocess.STDOUT,
            )
        except OSError as error:
            raise CannotPlay(
                f"{stage.program} cannot be started: {error.strerror or error}",
                hint="Correct 'program' under [play] in the sheet, or in the card that brings it.",
            ) from error
        status = _wait(process, stage, begun, limit)
        printed.seek(0)
        said = printed.read()[-MOST_BYTES:].decode("utf-8", "replace")
    log = _written_log(stage.log, begun_at)
    text = log or said
    reading = read_log(text, stage.rules)
    told = {mod: version for mod, version in stage.line_up.items() if mod in stage.told}
    return Run(
        seconds=time.monotonic() - begun,
        status=status,
        log=text[-KEPT_BYTES:],
        reading=reading,
        comparison=compare_with_line_up(reading, told, stage.own_ids),
    )


def _wait(
    process: subprocess.Popen[bytes], stage: Stage, begun: float, limit: float | None
) -> int | None:
    """Wait for the program, and for others in the game folder that it started; None: ended by the limit."""
    import subprocess

    deadline = None if limit is None else begun + limit
    try:
        status = process.wait(None if deadline is None else max(0.0, deadline - time.monotonic()))
    except subprocess.TimeoutExpired:
        _end(process)
        return None
    except KeyboardInterrupt:
        _end(process)
        raise
    while running := list(find_running([stage.game_folder])):
        if deadline is not None and time.monotonic() > deadline:
            for each in running:
                _end_number(each.number)
            return None
        time.sleep(_LOOKS_EVERY)
    return status


def _end(process: subprocess.Popen[bytes]) -> None:
    import subprocess

    process.terminate()
    try:
        process.wait(_PATIENCE)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()


def _end_number(number: int) -> None:
    import psutil

    with suppress(psutil.Error):
        found = psutil.Process(number)
        found.terminate()
        with suppress(psutil.TimeoutExpired):
            found.wait(_PATIENCE)
            return
        found.kill()


def _written_log(file: str, since: float) -> str:
    """Return the end of the log, where the game has written it since."""
    try:
        if not file or os.path.getmtime(file) < since - 2:
            return ""
        with open(file, "rb") as stream:
            stream.seek(max(0, os.path.getsize(file) - MOST_BYTES))
            return stream.read().decode("utf-8", "replace")
    except OSError:
        return ""


def record(request: Request, stage: Stage, run: Run, said: Said) -> PlayResult:
    """Keep what came of a start; an outcome becomes a trial, and a pack that works a good checkpoint.

    The game ran, whatever becomes of this: what cannot be written is told, and is no error.
    """
    try:
        with open_pack(request) as opened:
            opened.state.refuse_unfit()
            number = len(read_plays(opened.home)) + 1
            _keep(opened.home, stage, run, said, number)
    except (RellumError, OSError) as error:
        why = (
            error.summary
            if isinstance(error, RellumError)
            else f"{error.strerror}: {error.filename}"
        )
        return PlayResult(
            stage=stage, run=run, said=said, trial=False, checkpoint=None, unrecorded=why
        )
    has_trial = False
    if said.outcome and (stage.line_up or stage.grafts):
        words = f"works, but {said.word}" if said.outcome == "works" and said.word else said.word
        try:
            named = [f"{mod}@{version}" for mod, version in stage.line_up.items()]
            record_trial(request, said.outcome, named, note=words, grafts=stage.grafts)
            has_trial = True
        except RellumError as error:
            note(f"no trial was recorded: {error.summary}")
    checkpoint = None
    if said.outcome == "works" and not said.word:
        checkpoint = make_checkpoint(request, "", True).checkpoint.number
    return PlayResult(stage=stage, run=run, said=said, trial=has_trial, checkpoint=checkpoint)


def _keep(home: PackHome, stage: Stage, run: Run, said: Said, number: int) -> None:
    add_play(
        home,
        Play(
            number=number,
            at=time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()),
            variant=stage.variant,
            game=stage.game,
            releases=tuple(f"{mod} {version}" for mod, version in stage.line_up.items()),
            program=os.path.basename(stage.program),
            seconds=round(run.seconds, 1),
            status=run.status,
            outcome=said.outcome,
            word=said.word,
            log=run.log,
        ),
    )


def is_vanilla(stage: Stage) -> bool:
    """Whether the game is started without mods."""
    return stage.variant == VANILLA or not stage.line_up
