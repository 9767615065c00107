"""``rellum adopt``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import adopt as view


def adopt(
    game: Annotated[str, typer.Argument(metavar="GAME", help="The installed game's folder.")],
    pack: options.Pack = options.HERE,
    copy_to: Annotated[
        str,
        typer.Option("--copy", metavar="TO", help="Copy the game to TO, and adopt the copy."),
    ] = "",
    rebuild: Annotated[
        bool,
        typer.Option("--rebuild", help="Rebuild a damaged state of this pack; see 'rellum guide'."),
    ] = False,
    version: Annotated[
        str,
        typer.Option(
            "--version", metavar="V", help="The game's version, if Rellum cannot detect it."
        ),
    ] = "",
    as_it_is: Annotated[
        bool,
        typer.Option("--as-it-is", help="Treat everything in the folder as vanilla."),
    ] = False,
    anew: Annotated[
        bool, typer.Option("--anew", help="Adopt again the game that this pack keeps.")
    ] = False,
    catalog: options.Catalog = None,
    sheet: options.Sheet = "",
    every: options.Full = False,
    as_json: options.Json = False,
) -> None:
    """Start a pack on a game folder: detect its version, list and hash its files.

    Writes rellum.toml in the pack's folder. The game itself only gets a small marker file. Where the catalog
    knows the files of the game's version, these are vanilla; what else the folder holds is shown, with what
    you can do about it. With --copy the game is left untouched: a copy is made, which shares the disk's
    blocks where that can be done.
    """
    from rellum.core.actions.set_up import adopt as action

    if rebuild:
        if copy_to or catalog or sheet or version or as_it_is or anew:
            raise typer.BadParameter("--rebuild takes all else from rellum.toml")
        _rebuild(pack, game, as_json=as_json)
        return
    if anew and copy_to:
        raise typer.BadParameter("--anew looks at the game that is kept: leave --copy out")
    with console.progress() as listen:
        result = action.adopt(
            request_of(pack, listen=listen, shelf=True, begins=True),
            game,
            catalogs=tuple(catalog or ()),
            sheet_id=sheet,
            copy_to=copy_to,
            version=version,
            as_it_is=as_it_is,
            anew=anew,
        )
    if as_json:
        console.say_json(view.document(result))
        return
    view.show(result, every=every)


def _rebuild(pack: str, game: str, *, as_json: bool) -> None:
    from rellum.core.actions.set_up.rebuild import rebuild

    result = rebuild(request_of(pack, shelf=True, begins=True), game)
    if as_json:
        console.say_json(view.rebuilt_document(result))
        return
    view.show_rebuilt(result)
