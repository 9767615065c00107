"""``rellum variant``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.switching import switch_asking
from rellum.cli.views import variant as view

_COUNTS = {"list": 0, "new": 1, "use": 1, "drop": 1, "rename": 2, "compare": 2}


def variant(
    what: Annotated[
        str,
        typer.Argument(
            metavar="[list|new|use|drop|rename|compare]", help="What to do; list is the default."
        ),
    ] = "list",
    names: Annotated[
        list[str] | None,
        typer.Argument(metavar="[NAME]...", help="A variant; for rename and compare, two."),
    ] = None,
    like: Annotated[
        str,
        typer.Option(
            "--like", metavar="NAME", help="new: begin as this variant. Default: the one in use."
        ),
    ] = "",
    folder: Annotated[
        str,
        typer.Option(
            "--folder",
            metavar="FOLDER",
            help="new: with a copy of the game of its own, made there.",
        ),
    ] = "",
    with_drift: Annotated[
        bool,
        typer.Option("--with-drift", help="use: leave what else was changed in the game as it is."),
    ] = False,
    files: Annotated[
        bool, typer.Option("--files", help="compare: also every file that the mods lay.")
    ] = False,
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Keep several set-ups of the game, vanilla among them, and switch.

    Each has its own mods, holds, options, line-up and settings and, if the game sheet says so, saves. 'use
    vanilla' takes all mods out, and 'use main' brings them back, in one change that 'rewind' undoes.
    """
    from rellum.core.actions.change import variant as actions

    given = names or []
    if what not in _COUNTS:
        raise console.BadCall(
            f"'rellum variant {what}': it is one of {', '.join(_COUNTS)}",
            hint=f"To switch: rellum variant use {what}",
        )
    if len(given) != _COUNTS[what]:
        count = console.count_text(_COUNTS[what], "name")
        raise console.BadCall(f"'rellum variant {what}' takes {count}")
    if (like or folder) and what != "new":
        raise console.BadCall("--like and --folder go with 'rellum variant new'")
    if (files and what != "compare") or (with_drift and what != "use"):
        raise console.BadCall("--with-drift goes with use, --files with compare")
    request = request_of(pack, even_if_running=even_if_running, shelf=True)

    if what == "list":
        view.show_list(actions.list_variants(request), as_json=as_json)
    elif what == "new" and folder:
        from rellum.core.actions.change.variant_folder import new_in_folder

        with console.progress() as listen:
            made = new_in_folder(request._replace(listen=listen), given[0], folder, like)
        if as_json:
            console.say_json(view.changed(made.name, folder=made))
        view.show_own_folder(made)
    elif what == "new":
        fresh = actions.new_variant(request, given[0], like)
        if as_json:
            console.say_json(view.changed(fresh.name))
        view.show_new(fresh)
    elif what == "drop":
        if not console.confirm(
            f"Drop the variant {given[0]}?", yes=yes, what="this forgets a variant"
        ):
            raise typer.Exit(1)
        dropped = actions.drop_variant(request, given[0])
        if as_json:
            console.say_json(view.changed(dropped.name))
        view.show_dropped(dropped)
    elif what == "rename":
        actions.rename_variant(request, *given)
        if as_json:
            console.say_json(view.changed(given[1], before=given[0]))
        console.say(f"The variant {given[0]} is called {given[1]} now.")
    elif what == "compare":
        from rellum.core.actions.change.compare import compare

        found = compare(request, *given, files=files)
        from rellum.cli.views import compare as differences

        differences.show(found, *given, every=every, as_json=as_json)
    else:
        switch_asking(
            given[0], pack, yes=yes, with_drift=with_drift, every=every, even=even_if_running
        )
