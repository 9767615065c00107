"""History: which releases came, went or moved, when and by which command; and how the game ran since."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.errors import UserError
from rellum.core.pack.arrivals import releases_in
from rellum.core.pack.change_log import ChangeLog, RecordedChange
from rellum.core.pack.home import LOCK_FILE, PACK_FILE
from rellum.core.pack.plays import Play, read_plays

_VARIANT = re.compile(r'^variant *= *"([^"]*)"', re.MULTILINE)
_DATE = re.compile(r"\d{4}-\d\d(-\d\d)?\Z")
_IN_ROUNDS = "hunt"
"""Changes with this name are rounds of one search, and count as one."""


class BadDate(UserError):
    """A date is not written as one."""

    code = "bad-date"


@dataclass(frozen=True, slots=True, kw_only=True)
class ReleaseChange:
    """What became of a mod; None: it is not in the game. ``options`` tell where only these changed."""

    mod: str
    before: str | None
    after: str | None
    options: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class HistoryEntry:
    """A change of the game. ``is_known`` False: an older Rellum made it, and noted no releases.

    ``at`` is RFC 3339 in UTC; ``rounds`` how many changes it stands for; ``plays`` are the starts of the game
    until the next change; ``is_undone``: 'rewind' would take it back.
    """

    action: str
    at: str
    variant: str
    game: str
    game_before: str
    files: int
    releases: tuple[ReleaseChange, ...]
    is_known: bool
    rounds: int
    plays: tuple[Play, ...]
    is_undone: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class _Then:
    """The releases after a change: version and options by mod."""

    releases: dict[str, tuple[str, str]]
    variant: str


def history(request: Request, mod: str = "", since: str = "") -> list[HistoryEntry]:
    """Return the changes of the game, the newest first: all, those of one mod, or since a date (ISO 8601).

    Raises BadDate.
    """
    if since and not _DATE.match(since):
        raise BadDate(f"{since!r} is not a date", hint="Write it as 2026-03-14, or 2026-03.")
    with open_pack(request) as opened:
        log = opened.state.changes
        recorded = log.all()
        plays = read_plays(opened.home)
        newest = next((each for each in opened.state.checkpoints.all() if each.ended_by), None)
        entries = list(_entries(recorded, log, plays, newest.made_at if newest else ""))
    return [
        each
        for each in reversed(entries)
        if each.at >= since and (not mod or any(one.mod == mod for one in each.releases))
    ]


def _entries(
    recorded: Sequence[RecordedChange], log: ChangeLog, plays: Sequence[Play], undone_since: str
) -> Iterable[HistoryEntry]:
    cache: dict[tuple[tuple[str, str], ...], _Then] = {}
    before = _Then(releases={}, variant="")
    game = ""
    rounds = 0
    for index, each in enumerate(recorded):
        follows = recorded[index + 1] if index + 1 < len(recorded) else None
        rounds += 1
        if follows and each.action == follows.action == _IN_ROUNDS:
            continue
        if each.texts not in cache:
            cache[each.texts] = _then(each.texts, log)
        after = cache[each.texts] if each.texts else before
        until = follows.at if follows else "9"
        yield HistoryEntry(
            action=each.action,
            at=each.at,
            variant=after.variant,
            game=each.game,
            game_before=game,
            files=each.files,
            releases=tuple(_changes(before, after)),
            is_known=bool(each.texts),
            rounds=rounds,
            plays=tuple(one for one in reversed(plays) if each.at <= one.at < until),
            is_undone=follows is None and bool(undone_since),
        )
        before, game, rounds = after, each.game, 0


def _then(texts: tuple[tuple[str, str], ...], log: ChangeLog) -> _Then:
    digests = dict(texts)
    variant = _VARIANT.search(log.text(digests.get(PACK_FILE, "")))
    return _Then(
        releases=releases_in(log.text(digests.get(LOCK_FILE, ""))),
        variant=variant[1] if variant else "main",
    )


def _changes(before: _Then, after: _Then) -> Iterable[ReleaseChange]:
    for mod in sorted({*before.releases, *after.releases}):
        was, now = before.releases.get(mod), after.releases.get(mod)
        if was != now:
            same = was is not None and now is not None and was[0] == now[0]
            yield ReleaseChange(
                mod=mod,
                before=was[0] if was else None,
                after=now[0] if now else None,
                options=now[1] if same and now else "",
            )
