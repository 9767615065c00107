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
        help="Print one JSON document.",
        is_eager=True,
        callback=console.want_json,
    ),
]
Yes = Annotated[bool, typer.Option("--yes", "-y", help="Do not ask for confirmation.")]
Sweep = Annotated[
    bool,
    typer.Option(
        "--sweep", help="Move files out that cards list as left over from older releases."
    ),
]
Catalog = Annotated[
    list[str] | None,
    typer.Option("--catalog", metavar="FOLDER", help="A catalog folder. Repeatable."),
]
Sheet = Annotated[
    str,
    typer.Option(
        "--sheet", metavar="ID", help="The game sheet to use, if Rellum cannot detect it."
    ),
]
From = Annotated[
    str,
    typer.Option(
        "--from",
        metavar="COPY",
        help="A clean copy (folder or archive) to take missing files from.",
    ),
]
EvenIfRunning = Annotated[
    bool,
    typer.Option("--even-if-running", help="Change the game even while a program uses it."),
]
TakeUpdate = Annotated[
    bool,
    typer.Option(
        "--take-update",
        help="Treat changed vanilla files as a game update, even if the version is the same.",
    ),
]
Newest = Annotated[
    list[str] | None,
    typer.Option(
        "--newest",
        metavar="MOD",
        help="Choose the newest release of this mod that fits. Repeatable.",
    ),
]
Trust = Annotated[
    str,
    typer.Option(
        "--trust", metavar="FINGERPRINT", help="The fingerprint that the feed's curator told you."
    ),
]
Full = Annotated[bool, typer.Option("--full", help="Shorten no list.")]

HERE = "."
