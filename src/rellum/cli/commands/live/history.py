"""``rellum history``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import options
from rellum.cli.request import request_of


def history(
    mod: Annotated[str, typer.Argument(metavar="[MOD]", help="Only what became of this mod.")] = "",
    since: Annotated[
        str, typer.Option("--since", metavar="DATE", help="From this day on, such as 2026-03-14.")
    ] = "",
    every: Annotated[bool, typer.Option("--full", help="Shorten no list.")] = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show what changed in the game, when, by which command, and how it ran.

    The newest stands first: releases that came, went or moved to another version, the variant, and the
    answers of 'rellum play'.
    """
    from rellum.cli.views import history as view
    from rellum.core.actions.live.history import history as action

    found = action(request_of(pack), mod, since)
    view.show(found, mod, every=every or bool(mod or since), as_json=as_json)
