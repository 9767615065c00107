"""Options that several commands share."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console

Pack = Annotated[
    str, typer.Option("--pack", metavar="FOLDER", help="The pack's folder.", show_default=False)
]
Json = Annotated[
    bool,
    typer.Option(
        "--json",
        help="Print one JSON document instead.",
        is_eager=True,
        callback=console.want_json,
    ),
]
Yes = Annotated[bool, typer.Option("--yes", "-y", help="Do it without asking.")]
Sweep = Annotated[
    bool,
    typer.Option("--sweep", help="Set aside what cards name as left over from older releases."),
]
Catalog = Annotated[
    list[str] | None,
    typer.Option("--catalog", metavar="FOLDER", help="A catalog folder; may be repeated."),
]
Sheet = Annotated[
    str, typer.Option("--sheet", metavar="ID", help="The game sheet, if it is not told by itself.")
]
From = Annotated[
    str,
    typer.Option(
        "--from", metavar="COPY", help="A folder or archive with files that Rellum does not have."
    ),
]
EvenIfRunning = Annotated[
    bool,
    typer.Option("--even-if-running", help="Change the game though a program is using it."),
]
TakeUpdate = Annotated[
    bool,
    typer.Option(
        "--take-update",
        help="Take changed vanilla files for an update of the game, though its version is the same.",
    ),
]
All = Annotated[bool, typer.Option("--all", help="List every file.")]

HERE = "."
