"""``rellum kept``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import kept as view
from rellum.cli.views.sweep import document as sweep_document


def kept(
    what: Annotated[
        str,
        typer.Argument(metavar="[list|back|out|drop]", help="What to do with kept copies."),
    ] = "list",
    numbers: Annotated[
        list[str] | None,
        typer.Argument(metavar="[NUMBER]...", help="Numbers from the list: 7, or 3-7."),
    ] = None,
    to: Annotated[
        str, typer.Option("--to", metavar="FOLDER", help="out: the folder to write to.")
    ] = "",
    every: Annotated[bool, typer.Option("--full", help="Shorten no list.")] = False,
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """List kept copies, bring them back, or delete them.

    A file of yours that was in the way, or that went with a mod, is kept as a copy. 'back' brings it to its
    old place (what is there now is kept first), 'out' writes it elsewhere, 'drop' deletes the copy.
    """
    from rellum.core.actions.mend import kept as actions
    from rellum.core.values.paths import shown, shown_file

    if what not in ("list", "back", "out", "drop"):
        raise console.BadCall(f"'rellum kept {what}': it is list, back, out or drop")
    if (what == "list") == bool(numbers):
        raise console.BadCall("name the copies by number with back, out and drop, and only there")
    if (what == "out") != bool(to):
        raise console.BadCall("--to FOLDER goes with 'rellum kept out', and only there")
    chosen = tuple(number for each in numbers or () for number in view.numbers(each))
    if what == "list":
        _list(pack, every=every, as_json=as_json)
    elif what == "back":
        back = actions.bring_back(request_of(pack, even_if_running=even_if_running), chosen)
        if as_json:
            console.say_json({"done": True, "paths": [each.path for each in back]})
        view.tell("Back", [shown(each.path) for each in back])
    elif what == "out":
        written = actions.copy_out(request_of(pack), chosen, to)
        if as_json:
            console.say_json({"done": True, "paths": list(written)})
        view.tell("Written", list(map(shown_file, written)))
    else:
        question = f"Delete {console.count_text(len(chosen), 'kept copy', 'kept copies')} for good?"
        if not console.confirm(question, yes=yes, what="this deletes kept copies"):
            if as_json:
                console.say_json({"done": False, "paths": []})
            console.say("Nothing was changed.")
            raise typer.Exit(1)
        gone = actions.let_go(request_of(pack), chosen)
        if as_json:
            console.say_json({"done": True, "paths": [each.path for each in gone]})
        view.tell(
            "Deleted", [f"the copy of {shown(each.path)}, no. {each.number}" for each in gone]
        )


def _list(pack: str, *, every: bool, as_json: bool) -> None:
    from rellum.cli.views.plans import MOST_LINES
    from rellum.core.actions.mend.kept import list_kept
    from rellum.core.actions.mend.sweep import list_sweeps

    copies, sweeps = list_kept(request_of(pack)), list_sweeps(request_of(pack))
    if as_json:
        document = [view.document(each) for each in copies]
        console.say_json({"kept": document, "swept": [sweep_document(each) for each in sweeps]})
        return
    if copies:
        if every or len(copies) <= MOST_LINES:
            view.table(copies)
        else:
            view.show_grouped(copies)
        console.say(
            "'rellum kept back NUMBER' brings one back; 'rellum kept drop NUMBER' deletes it."
        )
    else:
        console.say("No copies are kept.")
    for each in sweeps:
        files = console.count_text(len(each.files), "file")
        console.say(f"Swept {each.name}: {files}; 'rellum sweep --back \"{each.name}\"'")
