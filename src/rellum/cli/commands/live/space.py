"""``rellum space``."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of

if TYPE_CHECKING:
    from rellum.core.actions.live.space import WayToFree


def space(
    free: Annotated[
        str,
        typer.Option(
            "--free", metavar="SIZE", help="Free this much, for example 20GB; asks first."
        ),
    ] = "",
    figure: Annotated[
        str, typer.Option("--figure", metavar="FILE.png", help="Draw it as a bar chart.")
    ] = "",
    yes: options.Yes = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show what takes space on disk, and free some at the least cost.

    The game, each mod, what lies under them, checkpoints, backups, moved files, the shelf. --free proposes
    what costs least: archives that no pack needs, old backups, old checkpoints, what can be fetched again.
    """
    from rellum.cli.views import space as view
    from rellum.core.actions.live import space as actions

    request = request_of(pack, shelf=True)
    if figure:
        from rellum.cli.views import figures

        figures.check_figure_name(figure)
    if not free:
        report = actions.space(request)
        if figure:
            figures.draw_space(report, figure)
        view.show(report, figure, as_json=as_json)
        return

    def ask(ways: Sequence[WayToFree], enough: bool) -> bool:
        if not as_json:
            view.show_ways(ways, enough=enough)
        return console.confirm("Free this?", yes=yes, what="this deletes files")

    freed = actions.free_space(request, view.bytes_of(free), ask)
    view.show_freed(freed, as_json=as_json)
    if not freed.done or not freed.enough:
        raise typer.Exit(1)
