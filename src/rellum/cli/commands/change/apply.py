"""``rellum apply``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of

if TYPE_CHECKING:
    from rellum.core.actions.change.apply import Preview
    from rellum.core.composing.settling import SettingsConflict
    from rellum.core.layers.wrappers import Depth, SameName
    from rellum.core.patching.merge import Side


def apply(
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    sweep: options.Sweep = False,
    take_update: options.TakeUpdate = False,
    every: options.All = False,
    pack: options.Pack = options.HERE,
) -> None:
    """Lay the line-up over the game: all of it or nothing.

    Shows what it will do and asks. What it replaces is kept, and comes back with 'restore'.
    """
    from rellum.cli import render
    from rellum.cli.commands.change.preview import show_preview
    from rellum.core.actions.change.apply import apply as action
    from rellum.core.composing.answers import Asking

    def ask(preview: Preview) -> bool:
        console.clear_progress()
        show_preview(preview, files=not yes, every=every, sweeps=sweep)
        for _, folder in preview.new_places:
            question = f"Write to {folder}, outside the game folder, for the first time?"
            if not console.confirm(
                question, yes=yes, what="this writes files outside the game folder"
            ):
                return False
        return console.confirm("Apply this?", yes=yes)

    with console.progress() as listen:
        result = action(
            request_of(pack, listen=listen, even_if_running=even_if_running, shelf=True),
            ask,
            asking=Asking(settings=_who_wins, same_name=_how_deep),
            sweep=sweep,
            take_update=take_update,
        )
    if not result.done:
        console.say("Nothing was changed.")
        raise typer.Exit(1)
    if result.preview.rebase:
        console.say(f"The pack is on game {result.preview.rebase.now.version} now.")
    if not result.preview.plan.visible:
        console.say("Nothing to do: every file of the line-up is in place.")
        words = "is not as it should be"
        render.tell_left_alone(result.preview.plan.left_alone, words, every=every)
        return
    releases = console.count_text(len(result.preview.lock.releases), "release")
    files = console.count_text(len(result.preview.plan.visible), "file")
    render.tell_kept(result.preview.plan)
    if result.preview.plan.swept:
        left_over = console.count_text(len(result.preview.plan.swept), "left-over file")
        console.say(f"{left_over} moved out; 'rellum sweep --back last' brings them back.")
    console.say(f"Applied: {files} changed, {releases} in the game.")
    for owner, note in result.preview.by_hand:
        console.say(f"Now check by hand, for {owner}: {note}")


def _who_wins(conflict: SettingsConflict) -> Side | None:
    """Let the user say on the terminal whose settings win; None where nobody is there."""
    from rellum.cli.commands.change.preview import conflict_lines
    from rellum.core.values.paths import shown

    console.clear_progress()
    question = f"{shown(conflict.path)}: you and {conflict.whose} changed the same settings."
    said = console.choose("\n".join([question, *conflict_lines(conflict)]), ("mine", "theirs"))
    return None if said is None else "mine" if said == "mine" else "theirs"


def _how_deep(found: SameName) -> Depth | None:
    """Let the user say whether a folder is one too many; None where nobody is there."""
    from rellum.core.values.paths import shown

    console.clear_progress()
    once = f"{shown(found.to)}/"
    question = (
        f"All files of {found.archive} lie in its folder {found.folder}, and its card puts that into {once}. "
        "Where do they belong?"
    )
    said = console.choose(question, (once, f"{once}{found.folder}"))
    return None if said is None else "once" if said == once else "twice"
