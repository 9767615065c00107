"""``rellum outlook``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import outlook as view


def outlook(
    figure: Annotated[
        str, typer.Option("--figure", metavar="FILE", help="Draw it, as .png or .svg.")
    ] = "",
    form: Annotated[
        str, typer.Option("--form", metavar="table|csv", help="How it is written.")
    ] = "table",
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show for each game version which mods are ready, and which block it.

    Searches a line-up for each version that the game sheet knows, and where there is none the fewest
    wants to give up for one.
    """
    if form not in ("table", "csv"):
        raise console.BadCall(f"--form {form}: it is table or csv")
    if form == "csv" and as_json:
        raise console.BadCall("--json and --form csv exclude each other")
    from rellum.core.actions.match.outlook import outlook as action

    if figure:
        from rellum.cli.views.figures import check_figure_name

        check_figure_name(figure)
    result = action(request_of(pack))
    if figure:
        from rellum.cli.views.figures import draw_outlook

        draw_outlook(result, figure)
    if as_json:
        console.say_json(view.document(result))
    elif form == "csv":
        view.print_csv(result)
    else:
        view.show(result)
        if figure:
            console.say(f"Drawn: {figure}")
