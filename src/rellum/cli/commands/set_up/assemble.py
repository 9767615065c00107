"""``rellum assemble``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of


def assemble(
    out: Annotated[str, typer.Argument(metavar="OUT", help="The folder to create.")],
    parts: Annotated[
        list[str],
        typer.Argument(
            metavar="PART...", help="Folders and archives; later ones replace earlier ones."
        ),
    ],
    version: Annotated[
        str, typer.Option("--version", metavar="V", help="The game version to build.")
    ] = "",
    move: Annotated[
        bool,
        typer.Option("--move", help="Move files out of part folders instead of copying them."),
    ] = False,
    unchecked: Annotated[
        bool, typer.Option("--unchecked", help="Build it even if it does not match a known game.")
    ] = False,
    catalog: options.Catalog = None,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Build a complete game from parts, verified against known files.

    The parts are laid over one another, in order. All is looked at before anything is written. Says
    which files are missing, and in which part they should be.
    """
    from rellum.core.actions.set_up import assemble as actions

    with console.progress() as listen:
        made = actions.assemble(
            request_of(pack, listen=listen),
            out,
            parts,
            version=version,
            move=move,
            unchecked=unchecked,
            catalogs=tuple(catalog or ()),
        )
    if as_json:
        console.say_json(
            {
                "folder": made.out,
                "version": made.known.version.text if made.known else None,
                "edition": made.known.edition if made.known else None,
                "file_count": made.files,
                "bytes": made.bytes,
                "parts": [
                    {"part": p, "file_count": n, "laid_over_count": over}
                    for p, n, over in made.takes
                ],
                "left_behind": list(made.left),
            }
        )
    else:
        rows = [(name, f"{count:,}", f"{over:,}") for name, count, over in made.takes]
        console.table(("part", "files", "laid over"), rows, right=(1, 2))
        files = console.count_text(made.files, "file")
        what = f"{made.known}, whole" if made.known else "not checked against known files"
        console.say(f"\n{made.out}: {what}; {files}, {console.bytes_text(made.bytes)}.")
        for each in made.left:
            console.warn(f"left behind in {each}")
    if made.left:
        raise typer.Exit(1)
