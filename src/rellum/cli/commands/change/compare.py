"""``rellum compare``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import options
from rellum.cli.request import request_of


def compare(
    first: Annotated[
        str,
        typer.Argument(
            metavar="FIRST",
            help="A checkpoint, a variant, another pack's folder, a rellum.lock, or 'now'.",
            show_default=False,
        ),
    ],
    second: Annotated[
        str, typer.Argument(metavar="[SECOND]", help="Another one.", show_default="now")
    ] = "now",
    files: Annotated[
        bool, typer.Option("--files", help="Of two variants, also every file that they lay.")
    ] = False,
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show what differs between two line-ups: releases, options, files."""
    from rellum.cli.views import compare as view
    from rellum.core.actions.change.compare import compare as action

    found = action(request_of(pack, shelf=True), first, second, files=files)
    view.show(found, first, second, every=every, as_json=as_json)
