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
    as_csv: Annotated[bool, typer.Option("--csv", help="Print it as CSV instead.")] = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show for each game version which mods are ready, and which block it.

    Searches a line-up for each version that the game sheet knows, and where there is none the fewest
    wants to give up for one.
    """
    if as_csv and as_json:
        raise console.BadCall("--csv and --json exclude each other")
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
    elif as_csv:
        view.print_csv(result)
    else:
        view.show(result)
        if figure:
            console.say(f"Drawn: {figure}")
