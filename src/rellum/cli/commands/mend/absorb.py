"""``rellum absorb``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import absorb as view

if TYPE_CHECKING:
    from rellum.core.actions.mend.own_mod import Absorbing


def absorb(
    paths: Annotated[
        list[str] | None,
        typer.Argument(metavar="[PATH]...", help="Only these files or folders."),
    ] = None,
    name: Annotated[
        str, typer.Option("--as", metavar="NAME", help="The id of the mod to create or extend.")
    ] = "",
    begin: Annotated[
        bool,
        typer.Option(
            "--begin", help="Before you run another program: keep copies of vanilla files."
        ),
    ] = False,
    end: Annotated[
        bool,
        typer.Option("--end", help="After the program ran: absorb everything that it changed."),
    ] = False,
    stop: Annotated[
        bool, typer.Option("--stop", help="End what --begin began, without making a mod.")
    ] = False,
    source: options.From = "",
    yes: options.Yes = False,
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Turn changes that another program made into a mod of your pack.

    Changed, new and deleted files, as 'rellum check' shows them, become a mod with an archive on the shelf
    and a card under 'own-mods' in the pack's folder. They stay where they stand.
    """
    from rellum.core.actions.mend import absorb as actions

    if (begin or stop) and (end or name or paths or (begin and stop)):
        raise typer.BadParameter(
            "--begin and --stop stand alone; call --end --as NAME after the other program"
        )
    if stop:
        was_begun = actions.stop(request_of(pack))
        if as_json:
            console.say_json({"ended": was_begun})
        words = "Ended: what the program changed is drift now. See 'rellum check'."
        console.say(words if was_begun else "Nothing to do: 'absorb --begin' was not run.")
        return
    if begin:
        _begin(pack, as_json=as_json)
        return
    if not name:
        raise typer.BadParameter("name the new mod: --as NAME")
    if end and paths:
        raise typer.BadParameter("--end absorbs every change; do not name paths")

    def ask(absorbing: Absorbing) -> bool:
        view.show(absorbing, every=every)
        question = f"Make this the mod {absorbing.mod} {absorbing.version}?"
        return console.confirm(question, yes=yes, what="this changes the pack")

    planned, done = actions.absorb(
        request_of(pack, shelf=True), name, tuple(paths or ()), ask, source=source, ends=end
    )
    if as_json:
        console.say_json(view.document(planned, done=done))
    if not done:
        console.say("Nothing was changed.")
        raise typer.Exit(1)
    files = console.count_text(len(planned.findings), "file")
    console.say(f"Absorbed: {files}, as {planned.mod} {planned.version}.")
    taken_out = f"'rellum drop {planned.mod}' and 'rellum apply' take it out again"
    if planned.lacking:
        files = console.count_text(len(planned.lacking), "vanilla file")
        console.say(
            f"{taken_out}, apart from {files}: give a copy by 'rellum restore --from COPY'."
        )
    else:
        console.say(f"{taken_out}.")


def _begin(pack: str, *, as_json: bool) -> None:
    from rellum.core.actions.mend.absorb import begin

    begun = begin(request_of(pack))
    if as_json:
        console.say_json({"file_count": begun.files, "bytes": begun.bytes})
    if begun.files:
        files = console.count_text(begun.files, "vanilla file")
        console.say(
            f"Keeping copies of {files}, {console.bytes_text(begun.bytes)}, until 'absorb --end'."
        )
    else:
        console.warn(
            "too little room to keep copies of vanilla files: what the program replaces comes back only "
            "from a clean copy ('rellum restore --from')"
        )
    console.say("Run the other program now, then 'rellum absorb --end --as NAME'.")
