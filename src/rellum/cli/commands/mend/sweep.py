"""``rellum sweep``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import sweep as view

if TYPE_CHECKING:
    from rellum.core.actions.mend.sweep import Sweeping


def sweep(
    paths: Annotated[
        list[str] | None,
        typer.Argument(metavar="[PATH]...", help="Only these files or folders."),
    ] = None,
    back: Annotated[
        str,
        typer.Option("--back", metavar="NAME", help="Undo a sweep: its name, or 'last'."),
    ] = "",
    listed: Annotated[
        bool, typer.Option("--list", help="List swept files and where they are.")
    ] = False,
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Move foreign and left-over files out of the game; --back undoes it.

    They go to a dated folder under 'swept' in the pack's folder, at the paths that they had.
    """
    from rellum.core.actions.mend import sweep as actions
    from rellum.core.values.paths import shown, shown_file

    if sum((bool(paths), bool(back), listed)) > 1:
        raise typer.BadParameter("name paths, or --back, or --list")
    if listed:
        _list(pack, as_json=as_json)
        return
    if back:
        done, taken = actions.bring_back(request_of(pack, even_if_running=even_if_running), back)
        if as_json:
            files_back = [path for path in done.files if path not in set(taken)]
            console.say_json({"files": files_back, "stay_out": list(taken)})
        for path in taken:
            console.warn(f"{shown(path)} stays out: another file is in its place now")
        files = console.count_text(len(done.files) - len(taken), "file")
        folders = console.count_text(len(done.folders), "empty folder")
        console.say(f"Back in the game: {files}{f', {folders}' if done.folders else ''}.")
        if taken:
            raise typer.Exit(1)
        return

    def ask(sweeping: Sweeping) -> bool:
        view.show(sweeping, every=every)
        return console.confirm("Move these out of the game?", yes=yes)

    planned, done_so = actions.sweep(
        request_of(pack, even_if_running=even_if_running), tuple(paths or ()), ask
    )
    if as_json:
        console.say_json(view.swept_document(planned, done=done_so))
    for path, why in planned.left:
        console.warn(f"{shown(path)} stays: {why}")
    if planned.plan.is_empty:
        console.say("Nothing to do: there are no foreign or left-over files.")
    elif not done_so:
        console.say("Nothing was changed.")
        raise typer.Exit(1)
    else:
        files = console.count_text(len(planned.plan.operations), "file")
        what = files if planned.plan.operations else "empty folders"
        console.say(f"Moved out of the game: {what}, to {shown_file(planned.folder)}")
        console.say("'rellum sweep --back last' brings them back.")


def _list(pack: str, *, as_json: bool) -> None:
    from rellum.core.actions.mend.sweep import list_sweeps

    sweeps = list_sweeps(request_of(pack))
    if as_json:
        console.say_json({"sweeps": [view.document(each) for each in sweeps]})
    else:
        view.show_list(sweeps)
