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
        list[str] | None,
        typer.Argument(
            metavar="[FILE]...",
            help="An archive, all parts of one, or a folder; with --each, folders.",
        ),
    ] = None,
    to: Annotated[
        str, typer.Option("--to", metavar="FILE.toml", help="Write the draft to a new file.")
    ] = "",
    save: Annotated[
        bool, typer.Option("--save", help="Write it into the catalog: a card, or a release of one.")
    ] = False,
    each: Annotated[
        bool, typer.Option("--each", help="Do that for every download in these folders.")
    ] = False,
    game: Annotated[
        str,
        typer.Option(
            "--game",
            metavar="FOLDER",
            help="Draft the sheet of this game; FILE... are then folders of downloads to look at.",
        ),
    ] = "",
    yes: options.Yes = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Draft a card for an archive; lines that you must fill in are marked.

    Id, version and needs come from what the mod says about itself, if the game sheet says where, else from
    names; where its files belong, from the game's places and vanilla files. A release of a mod that has a
    card gets what the release before it has: places, settings, needs.

    With --game: draft the sheet of a game that no catalog describes, and ask what only you can know.
    """
    if sum((bool(to), save, each)) > 1:
        raise console.BadCall("choose one of --to, --save and --each")
    if to and os.path.exists(to):
        raise console.BadCall(f"{to} is there already", hint="Name a new file, or use --save.")
    if game:
        _describe_game(game, archives or [], to, pack, yes=yes, as_json=as_json)
    elif not archives:
        raise console.BadCall("name an archive, or --game FOLDER")
    else:
        _describe_archives(archives, to, pack, save=save, each=each, as_json=as_json)


def _describe_archives(
    archives: list[str], to: str, pack: str, *, save: bool, each: bool, as_json: bool
) -> None:
    from rellum.core.actions.gather import describe as actions
    from rellum.core.describing.card_text import card_text

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
        view.write_new(to, text)
        view.show(described, text, to, as_json=as_json)


def _describe_game(
    folder: str, look_at: list[str], to: str, pack: str, *, yes: bool, as_json: bool
) -> None:
    from rellum.cli.views import game_questions
    from rellum.core.actions.gather import describe_game as actions

    asks = console.is_interactive() and not yes and not as_json
    draft = actions.describe_game(
        folder,
        look_at,
        game_questions.ask if asks else actions.as_guessed,
        lambda count: game_questions.may_read(folder, count, yes=yes),
    )
    if to:
        view.write_new(to, draft.text)
    else:
        to = actions.write_sheet(draft, actions.catalog_for(pack))
    game_questions.show(draft, folder, to, as_json=as_json)
