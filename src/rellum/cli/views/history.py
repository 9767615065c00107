"""What ``rellum history`` shows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.live import HistoryEntryDocument
    from rellum.core.actions.live.history import HistoryEntry, ReleaseChange
    from rellum.core.pack.plays import Play

_MOST = 20
_FEW = 6


def show(found: Sequence[HistoryEntry], mod: str, *, every: bool, as_json: bool) -> None:
    if as_json:
        console.say_json({"changes": list(map(_document, found))})
        return
    if not found:
        console.say(
            f"Nothing has become of {mod} so far." if mod else "Nothing has changed so far."
        )
        return
    shown = found if every else found[:_MOST]
    for each in shown:
        for play in reversed(each.plays):
            console.say(f"{console.moment_text(play.at)}  play: {_outcome(play)}")
        _show_entry(each, mod)
    if len(found) > len(shown):
        more = console.count_text(len(found) - len(shown), "older change")
        console.say(f"{more}: --full shows all.")
    if not mod and found[0].is_undone:
        # A hunt ends with all as before it, and is passed over.
        last = next((each for each in found if each.action != "hunt" and each.files), None)
        if last:
            console.say(
                f"'rellum rewind' would undo {last.action!r} of {console.moment_text(last.at)}."
            )


def _show_entry(each: HistoryEntry, mod: str) -> None:
    what = f"{each.action}, {each.rounds} changes" if each.rounds > 1 else each.action
    game = f", game {each.game}" if each.game != each.game_before else ""
    variant = f", {each.variant}" if each.variant not in ("", "main") else ""
    count = f": {console.count_text(each.files, 'file')}" if each.files else ""
    console.say(
        f"{console.moment_text(each.at)}  {console.styled(what, 'bold')}{variant}{game}{count}"
    )
    releases = [one for one in each.releases if not mod or one.mod == mod]
    listed = releases if mod else releases[:_FEW]
    for one in listed:
        console.say(f"    {_change(one)}")
    if len(releases) > len(listed):
        console.say(f"    … and {console.count_text(len(releases) - len(listed), 'more mod')}")
    if not each.is_known:
        console.say("    an older Rellum made it, and noted no releases")


def _change(each: ReleaseChange) -> str:
    if each.before is None:
        return f"{console.styled('+', 'green')} {each.mod} {each.after}"
    if each.after is None:
        return f"{console.styled('-', 'red')} {each.mod} {each.before}"
    if each.options:
        return f"{console.styled('~', 'yellow')} {each.mod} {each.after}, with {each.options}"
    return f"{console.styled('~', 'yellow')} {each.mod} {each.before} to {each.after}"


def _outcome(play: Play) -> str:
    if not play.outcome:
        return "how it went is not known"
    return f"{play.outcome}, but {play.word}" if play.word else play.outcome


def _document(each: HistoryEntry) -> HistoryEntryDocument:
    return {
        "at": each.at,
        "action": each.action,
        "variant": each.variant,
        "game_version": each.game,
        "game_version_before": each.game_before or None,
        "file_count": each.files,
        "change_count": each.rounds,
        "is_known": each.is_known,
        "rewind_would_undo": each.is_undone,
        "releases": [
            {
                "mod": one.mod,
                "version_before": one.before,
                "version": one.after,
                "options": one.options or None,
            }
            for one in each.releases
        ],
        "plays": [
            {
                "at": play.at,
                "outcome": play.outcome or None,
                "word": play.word or None,
                "seconds": play.seconds,
                "exit_status": play.status,
            }
            for play in each.plays
        ],
    }
