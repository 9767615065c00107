"""``rellum demo``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console


def demo(
    folder: Annotated[str, typer.Argument(metavar="DIR", help="A new or empty folder.")],
    files_only: Annotated[
        bool, typer.Option("--files-only", help="Make the files and stop there.")
    ] = False,
) -> None:
    """Make a small made-up game with mods, and tell its whole story.

    The folder must be new or empty. The story runs the real commands, one after another.
    """
    from rellum.demo import story, world

    places = world.make(folder)
    if files_only:
        console.say(f"The demo's files are in {places.root}.")
        console.facts(places.listing())
        return
    status = story.tell(places, console.say)
    if status:
        raise typer.Exit(status)
