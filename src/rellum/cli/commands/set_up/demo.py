"""``rellum demo``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options


def demo(
    folder: Annotated[str, typer.Argument(metavar="DIR", help="A new or empty folder.")],
    files_only: Annotated[
        bool, typer.Option("--files-only", help="Only create the files.")
    ] = False,
    serve: Annotated[
        bool,
        typer.Option("--serve", help="Serve the demo's downloads until stopped."),
    ] = False,
    as_json: options.Json = False,
) -> None:
    """Make a small made-up game with mods, and tell its whole story.

    The folder must be new or empty. The story runs the real commands, one after another.
    """
    from rellum.demo import story, world

    if serve:
        _serve(folder)
        return
    places = world.make(folder)
    document = {"done": True, "folder": places.root, "pack_folder": places.folder("pack")}
    if files_only:
        if as_json:
            console.say_json(document)
        console.say(f"The demo's files are in {places.root}.")
        console.facts(places.listing())
        return
    status = story.tell(places, console.say, is_quiet=as_json)
    if as_json:
        console.say_json({**document, "done": not status})
    if status:
        raise typer.Exit(status)


def _serve(folder: str) -> None:
    """Be the stand-in site until the user stops it."""
    import os
    import threading

    from rellum.demo.site import Site

    served = os.path.join(os.path.abspath(folder), "site")
    if not os.path.isdir(served):
        raise console.BadCall(
            f"{served} is not there",
            hint=f"Make the demo first: 'rellum demo {folder} --files-only'.",
        )
    with Site(served, bytes_per_second=200_000) as site:
        console.say("The stand-in site is running. In another terminal:")
        console.say(f"  export http_proxy={site.address} no_proxy=")
        console.note("Stop it with Ctrl-C.")
        try:
            threading.Event().wait()
        except KeyboardInterrupt:
            pass
