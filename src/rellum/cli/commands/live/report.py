"""``rellum report``."""

from __future__ import annotations

import os
from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of


def report(
    file: Annotated[str, typer.Argument(metavar="FILE.html", help="The page to write.")],
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Write a page about the health of the pack, to keep or to hand on.

    It has line-up, outlook, conflicts, drift, trials, history and space, and needs nothing from elsewhere: no
    network, no script, no picture.
    """
    from rellum.cli.views import report as view
    from rellum.core.actions.live.report import report as action

    if not file.lower().endswith((".html", ".htm")):
        raise console.BadCall(f"a report is written as .html, and {file} is not")
    found = action(request_of(pack, shelf=True))
    view.write(found, file)
    if as_json:
        console.say_json({"file": file, "bytes": os.path.getsize(file)})
    console.say(f"Wrote {file}: {view.summary(found)}.")
