"""``rellum conflicts``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import conflicts as view


def conflicts(
    every: options.Full = False,
    figure: Annotated[
        str, typer.Option("--figure", metavar="FILE", help="Draw a matrix of mods: .png or .svg.")
    ] = "",
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show files that several mods bring, and which mod wins.

    The last in load order wins, unless the pack decides otherwise: rellum decide winner PATH MOD.
    """
    from rellum.core.actions.change.conflicts import conflicts as action

    if figure:
        from rellum.cli.views.figures import check_figure_name

        check_figure_name(figure)
    found = action(request_of(pack, shelf=True))
    if as_json:
        console.say_json(view.document(found))
    else:
        view.show(found, every=every)
    if figure:
        from rellum.cli.views.figures import draw_conflicts

        draw_conflicts(found, figure)
        console.note(f"Drawn: {figure}")
