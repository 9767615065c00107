"""``rellum rewind``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options

if TYPE_CHECKING:
    from rellum.core.actions.rewind import Rewinding
    from rellum.core.pack.checkpoints import Checkpoint


def rewind(
    name: Annotated[
        str, typer.Argument(metavar="[NAME]", help="A checkpoint's name or number.")
    ] = "",
    good: Annotated[
        bool, typer.Option("--good", help="Go back to the last one that was marked good.")
    ] = False,
    source: options.From = "",
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    every: options.All = False,
    pack: options.Pack = options.HERE,
) -> None:
    """Go back to a checkpoint, with settings and line-up; or undo a change.

    Shows what it will do and asks. What is there now becomes a checkpoint itself.
    """
    from rellum.cli import render
    from rellum.cli.recovery import tell_recovered
    from rellum.core.actions import rewind as actions
    from rellum.core.paths import shown

    if name and good:
        raise typer.BadParameter("name a checkpoint, or say --good")

    def ask(rewinding: Rewinding) -> bool:
        _show(rewinding, files=not yes, every=every)
        return console.confirm("Go back to that?", yes=yes)

    result = actions.rewind(
        pack, name, good, tell_recovered, ask, source=source, even_if_running=even_if_running
    )
    rewinding = result.rewinding
    if not result.done:
        console.say("Nothing was changed.")
        raise typer.Exit(1)
    for path, why in rewinding.plan.left_alone:
        console.warn(f"{shown(path)} is not as it was then: {why}")
    told = _name_of(rewinding.checkpoint)
    if rewinding.is_empty and not rewinding.plan.left_alone:
        console.say(f"Nothing to do: all is as it was at {told}.")
        return
    render.tell_kept(rewinding.plan, result.originals_folder)
    files = console.count_text(len(rewinding.plan.visible), "file")
    texts = f"; {' and '.join(rewinding.texts)} as they were then" if rewinding.texts else ""
    console.say(f"Done: {files} changed{texts}.")
    console.say("'rellum rewind' once more undoes this.")
    if rewinding.plan.left_alone:
        raise typer.Exit(1)


def _show(rewinding: Rewinding, *, files: bool, every: bool) -> None:
    from rellum.cli import render

    console.say(f"Back to {_name_of(rewinding.checkpoint)}:")
    if rewinding.plan.visible:
        if files:
            render.plan_lines(rewinding.plan, every=every)
        console.say(render.plan_summary(rewinding.plan, rewinding.space))
    for text in rewinding.texts:
        console.say(f"{text} becomes what it was then.")


def _name_of(checkpoint: Checkpoint) -> str:
    name = f" '{checkpoint.name}'" if checkpoint.name else ""
    before = f", before '{checkpoint.ended_by}'" if checkpoint.ended_by else ""
    moment = checkpoint.made_at.replace("T", " ").removesuffix("Z")
    return f"checkpoint {checkpoint.number}{name} of {moment}{before}"
