"""``rellum rewind``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of

if TYPE_CHECKING:
    from rellum.core.actions.mend.rewind import Rewinding
    from rellum.core.pack.checkpoints import Checkpoint


def rewind(
    name: Annotated[
        str, typer.Argument(metavar="[NAME]", help="Name or number of a checkpoint.")
    ] = "",
    good: Annotated[
        bool, typer.Option("--good", help="Go back to the last checkpoint marked good.")
    ] = False,
    with_carried: Annotated[
        bool,
        typer.Option(
            "--with-carried", help="Take your own files (saves, carried files) back as well."
        ),
    ] = False,
    source: options.From = "",
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    every: options.All = False,
    pack: options.Pack = options.HERE,
) -> None:
    """Go back to a checkpoint, with its settings and line-up.

    Looks at the whole game folder, shows what it will do and asks. What is there now becomes a checkpoint
    itself. Your own files, such as saves, stay as they are.
    """
    from rellum.cli import render
    from rellum.core.actions.mend import rewind as actions

    if name and good:
        raise typer.BadParameter("name a checkpoint, or say --good")

    def ask(rewinding: Rewinding) -> bool:
        _show(rewinding, files=not yes, every=every)
        return console.confirm("Go back to that?", yes=yes)

    result = actions.rewind(
        request_of(pack, even_if_running=even_if_running, shelf=True),
        name,
        good,
        ask,
        source=source,
        with_carried=with_carried,
    )
    rewinding = result.rewinding
    if not result.done:
        console.say("Nothing was changed.")
        raise typer.Exit(1)
    left_alone = rewinding.plan.left_alone
    render.tell_left_alone(left_alone, "is not as it was then", every=every)
    if rewinding.is_empty:
        _tell_nothing_to_do(rewinding)
    else:
        render.tell_kept(rewinding.plan)
        files = console.count_text(len(rewinding.plan.visible), "file")
        texts = f"; {' and '.join(rewinding.texts)} as they were then" if rewinding.texts else ""
        console.say(f"Done: {files} changed{texts}.")
        console.say("Run 'rellum rewind' again to undo this.")
    _tell_rest(rewinding)
    if left_alone:
        raise typer.Exit(1)


def _tell_nothing_to_do(rewinding: Rewinding) -> None:
    told = _name_of(rewinding.checkpoint)
    if rewinding.plan.left_alone:
        console.say("Nothing was changed: none of it can be fixed now.")
    elif rewinding.stays or rewinding.newer or rewinding.foreign:
        console.say(f"Nothing to do: all is as it was at {told}, apart from these.")
    else:
        console.say(f"Nothing to do: all is as it was at {told}.")


def _tell_rest(rewinding: Rewinding) -> None:
    """Name what is not as it was then, and stays as it is."""
    from rellum.cli import render

    render.tell_paths(
        rewinding.stays,
        "Your own files stay as they are now (--with-carried takes them back, too):",
    )
    render.tell_paths(rewinding.newer, "Settings that are newer than the checkpoint stay:")
    render.tell_paths(rewinding.foreign, "Foreign files stay where they are:")


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
