"""``rellum checkpoint``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import checkpoint as view


def checkpoint(
    name: Annotated[str, typer.Argument(metavar="[NAME]", help="A name for the checkpoint.")] = "",
    good: Annotated[
        bool, typer.Option("--good", help="Mark it as good: it is never deleted automatically.")
    ] = False,
    listed: Annotated[
        bool, typer.Option("--list", help="List all checkpoints, newest first.")
    ] = False,
    forget: Annotated[
        str,
        typer.Option(
            "--forget", metavar="NAME", help="Remove the name and the good mark from a checkpoint."
        ),
    ] = "",
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Make a checkpoint, a state to go back to; --list shows all.

    One is made by itself before every change: game files, settings and line-up. The newest ten stay,
    of older ones the last of each day for thirty days; those with a name or marked good stay.
    """
    from rellum.core.actions.mend import rewind as actions

    if sum((bool(name) or good, listed, bool(forget))) > 1:
        raise typer.BadParameter("--list and --forget each stand alone")
    if forget:
        freed = actions.forget_checkpoint(request_of(pack), forget)
        if as_json:
            console.say_json({"checkpoint": view.document(freed), "drifted": []})
        console.say(f"Checkpoint {freed.number} no longer has a name or mark.")
        return
    if listed:
        found = actions.list_checkpoints(request_of(pack))
        if as_json:
            console.say_json({"checkpoints": list(map(view.document, found))})
        else:
            view.show(found)
        return
    result = actions.make_checkpoint(request_of(pack), name, good)
    made = result.checkpoint
    if as_json:
        console.say_json({"checkpoint": view.document(made), "drifted": list(result.drifted)})
        return
    called = f" '{made.name}'" if made.name else ""
    mark = ", marked good" if made.good else ""
    console.say(f"Checkpoint {made.number}{called}{mark}.")
    console.say(f"To go back to it: 'rellum rewind {view.pasted(made.name) or made.number}'.")
    if result.drifted:
        from rellum.cli.views import plans

        plans.tell_paths(
            result.drifted,
            "The checkpoint has these as Rellum left them, not as they are now ('rellum absorb' keeps the "
            "changes):",
        )
