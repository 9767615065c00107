"""``rellum describe``."""

from __future__ import annotations

import os
from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import describe as view


def describe(
    archives: Annotated[
        list[str],
        typer.Argument(
            metavar="FILE...",
            help="An archive, all parts of one, or a folder; with --each, folders.",
        ),
    ],
    to: Annotated[
        str, typer.Option("--to", metavar="CARD.toml", help="Write the card to a new file.")
    ] = "",
    save: Annotated[
        bool, typer.Option("--save", help="Write it into the catalog: a card, or a release of one.")
    ] = False,
    each: Annotated[
        bool, typer.Option("--each", help="Do that for every download in these folders.")
    ] = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Draft a card for an archive; lines that you must fill in are marked.

    Id, version and needs come from what the mod says about itself, if the game sheet says where, else from
    names; where its files belong, from the game's places and vanilla files. A release of a mod that has a
    card gets what the release before it has: places, settings, needs.
    """
    from rellum.core.actions.gather import describe as actions
    from rellum.core.describing.card_text import card_text

    if sum((bool(to), save, each)) > 1:
        raise console.BadCall("choose one of --to, --save and --each")
    if to and os.path.exists(to):
        raise console.BadCall(f"{to} is there already", hint="Name a new file, or use --save.")
    with console.progress() as listen:
        request = request_of(pack, listen=listen)
        if each:
            outcomes = list(actions.describe_each(request, archives, view.ask_version))
        elif save:
            saved = actions.save(request, archives)
        else:
            described = actions.describe(request, archives)
    if each:
        view.show_each(outcomes, archives, as_json=as_json)
    elif save:
        view.show_saved(saved, as_json=as_json)
    else:
        text = card_text(described)
        if to:
            with open(to, "x", encoding="utf-8", newline="\n") as file:
                file.write(text)
        view.show(described, text, to, as_json=as_json)
