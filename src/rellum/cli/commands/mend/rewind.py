"""``rellum rewind``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import rewind as view

if TYPE_CHECKING:
    from rellum.core.actions.mend.rewind import Rewinding


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
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Go back to a checkpoint, with its settings and line-up.

    Looks at the whole game folder, shows what it will do and asks. What is there now becomes a checkpoint
    itself. Your own files, such as saves, stay as they are.
    """
    from rellum.cli.views import plans
    from rellum.core.actions.mend import rewind as actions

    if name and good:
        raise typer.BadParameter("name a checkpoint, or say --good")

    def ask(rewinding: Rewinding) -> bool:
        view.show(rewinding, files=not yes, every=every)
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
    if as_json:
        console.say_json(view.document(result))
    if not result.done:
        console.say("Nothing was changed.")
        raise typer.Exit(1)
    left_alone = rewinding.plan.left_alone
    plans.tell_left_alone(left_alone, "is not as it was then", every=every)
    if rewinding.is_empty:
        view.tell_nothing_to_do(rewinding)
    else:
        plans.tell_kept(rewinding.plan)
        files = console.count_text(len(rewinding.plan.visible), "file")
        are = "as they were then" if len(rewinding.texts) > 1 else "as it was then"
        texts = f"; {' and '.join(rewinding.texts)} {are}" if rewinding.texts else ""
        console.say(f"Done: {files} changed{texts}.")
        console.say("Run 'rellum rewind' again to undo this.")
    view.tell_rest(rewinding)
    if left_alone:
        raise typer.Exit(1)
