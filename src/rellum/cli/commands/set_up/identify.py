"""``rellum identify``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import identify as view


def identify(
    folder: Annotated[str, typer.Argument(metavar="FOLDER", help="A game's folder.")],
    write: Annotated[
        bool,
        typer.Option("--write", help="Write its hashes to the catalog as a known baseline."),
    ] = False,
    catalog: options.Catalog = None,
    sheet: options.Sheet = "",
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Identify the game in a folder, and compare its files with known versions.

    Version, edition and expansions, by the game sheet's rules and by known baselines. Exit status 1 if
    its version cannot be told, or it is no known vanilla game, whole.
    """
    from rellum.core.actions.set_up import identify as actions

    with console.progress() as listen:
        found = actions.identify_folder(
            request_of(pack, listen=listen), folder, catalogs=tuple(catalog or ()), sheet_id=sheet
        )
        file, is_new = actions.write_baseline(found, listen) if write else ("", False)
    if as_json:
        console.say_json(view.document(found, file))
    else:
        view.show(found, every=every)
        if file:
            from rellum.core.values.paths import shown_file

            console.say(f"Written: {shown_file(file)}")
            if is_new:
                console.say(f"The game sheet names it: {shown_file(found.sheet.source.file)}")
    nearest = found.nearest
    if not write and (
        found.identity is None or (found.matches and not (nearest and nearest.is_whole))
    ):
        raise typer.Exit(1)
