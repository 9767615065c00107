"""Options that several commands share."""

from __future__ import annotations

from typing import Annotated

import typer

Pack = Annotated[
    str, typer.Option("--pack", metavar="FOLDER", help="The pack's folder.", show_default=False)
]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON document instead.")]
Yes = Annotated[bool, typer.Option("--yes", "-y", help="Do it without asking.")]
Sweep = Annotated[
    bool,
    typer.Option("--sweep", help="Set aside what cards name as left over from older releases."),
]
All = Annotated[bool, typer.Option("--all", help="List every file.")]

HERE = "."
