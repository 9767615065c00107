"""Laying the line-up as a person sees it: for 'apply', and for 'follow', which ends with it."""

from __future__ import annotations

from collections.abc import Collection
from typing import TYPE_CHECKING

import typer

from rellum.cli import console
from rellum.cli.request import request_of
from rellum.cli.views import apply as view

if TYPE_CHECKING:
    from rellum.core.actions.change.apply import ApplyResult
    from rellum.core.change.preparing import Preview


def apply_asking(
    pack: str,
    *,
    yes: bool,
    even_if_running: bool = False,
    sweep: bool = False,
    take_update: bool = False,
    newest: Collection[str] = (),
    every: bool = False,
    follows: bool = False,
) -> ApplyResult:
    """Show what is to be laid, ask, and lay it."""
    from rellum.cli.views.preview import show_preview
    from rellum.core.actions.change.apply import apply
    from rellum.core.composing.answers import Asking

    def ask(preview: Preview) -> bool:
        console.clear_progress()
        show_preview(preview, files=not yes, every=every, sweeps=sweep)
        if not is_outside_meant(preview, yes=yes):
            return False
        return console.confirm("Apply this?", yes=yes)

    with console.progress() as listen:
        request = request_of(pack, listen=listen, even_if_running=even_if_running, shelf=True)
        return apply(
            request._replace(follows=follows),
            ask,
            asking=Asking(settings=view.who_wins, same_name=view.how_deep),
            sweep=sweep,
            take_update=take_update,
            newest=newest,
        )


def is_outside_meant(preview: Preview, *, yes: bool) -> bool:
    """Ask of each folder outside the game that is written to for the first time, or in place of another."""
    for place in preview.new_places:
        first = "" if place.before else ", for the first time"
        question = f"Write to {place.folder}, outside the game folder{first}?"
        if not console.confirm(question, yes=yes, what="this writes files outside the game folder"):
            return False
    return True


def tell_applied(result: ApplyResult, *, every: bool) -> None:
    """Say what was laid. Raises Exit with status 1 where the answer was no."""
    from rellum.cli.views import plans

    if not result.done:
        console.say("Nothing was changed.")
        raise typer.Exit(1)
    if result.preview.rebase:
        rebase = result.preview.rebase
        console.say(f"The pack is on game {rebase.now.told_beside(rebase.before)} now.")
    if not result.preview.plan.visible:
        if result.preview.newest:
            from rellum.cli.views.preview import show_newest

            show_newest(result.preview)
        console.say("Nothing to do: every file of the line-up is in place.")
        words = "is not as it should be"
        plans.tell_left_alone(result.preview.plan.left_alone, words, every=every)
        return
    releases = console.count_text(len(result.preview.lock.releases), "release")
    files = console.count_text(len(result.preview.plan.visible), "file")
    plans.tell_kept(result.preview.plan)
    if result.preview.plan.swept:
        left_over = console.count_text(len(result.preview.plan.swept), "left-over file")
        console.say(f"{left_over} moved out; 'rellum sweep --back last' brings them back.")
    console.say(f"Applied: {files} changed, {releases} in the game.")
    for owner, note in result.preview.by_hand:
        console.say(f"Now check by hand, for {owner}: {note}")
