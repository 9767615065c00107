"""``rellum describe``."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import describe as view

if TYPE_CHECKING:
    pass


def describe(
    archives: Annotated[
        list[str],
        typer.Argument(metavar="FILE...", help="An archive, all parts of one, or a folder."),
    ],
    to: Annotated[
        str, typer.Option("--to", metavar="CARD.toml", help="Write the card to a new file.")
    ] = "",
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Draft a card for an archive; lines that you must fill in are marked.

    Id and version are read from names and from what lies inside; where its files belong, by the game's
    places and vanilla files.
    """
    from rellum.core.actions.gather.describe import describe as action
    from rellum.core.describing.card_text import card_text

    if to and os.path.exists(to):
        raise console.BadCall(f"{to} is there already", hint="Name a new file.")
    with console.progress() as listen:
        described = action(request_of(pack, listen=listen), archives)
    text = card_text(described)
    if to:
        with open(to, "x", encoding="utf-8", newline="\n") as file:
            file.write(text)
    if as_json:
        console.say_json(view.document(described, text))
    elif to:
        marks = text.count("FILL IN")
        console.say(
            f"{to} is written; {console.count_text(marks, 'line')} to fill in or to look at."
        )
    else:
        console.say(text.rstrip("\n"))
