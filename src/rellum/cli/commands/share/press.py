"""``rellum press``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of


def press(
    folder: Annotated[
        str, typer.Argument(metavar="FOLDER", help="The folder that you edit.", show_default=False)
    ],
    version: Annotated[
        str,
        typer.Option(
            "--version",
            metavar="VERSION",
            help="The version, also written into the mod's own description.",
        ),
    ] = "",
    mod: Annotated[
        str, typer.Option("--mod", metavar="ID", help="The mod's id, where the folder tells none.")
    ] = "",
    to: Annotated[
        str,
        typer.Option("--to", metavar="FILE", help="The archive's file, or the folder for it."),
    ] = "",
    into: Annotated[
        str,
        typer.Option("--into", metavar="PLACE", help="Where it belongs in the game: @mods/tides/"),
    ] = "",
    licence: Annotated[
        str, typer.Option("--licence", metavar="SPDX", help="The licence, e.g. CC-BY-4.0.")
    ] = "",
    leave_out: Annotated[
        list[str] | None,
        typer.Option(
            "--leave-out", metavar="PATTERN", help="Files that stay out of it. Repeatable."
        ),
    ] = None,
    patch_from: Annotated[
        str,
        typer.Option(
            "--patch-from", metavar="VERSION", help="Make an update patch over that release, too."
        ),
    ] = "",
    as_diffs: Annotated[
        bool, typer.Option("--as-diffs", help="In the patch, write texts as unified diffs.")
    ] = False,
    again: Annotated[
        bool, typer.Option("--again", help="Replace the same version, if nobody has it yet.")
    ] = False,
    fresh: Annotated[
        bool, typer.Option("--fresh", help="A new mod: give it identifiers of its own.")
    ] = False,
    from_installed: Annotated[
        str,
        typer.Option(
            "--from-installed", metavar="MOD", help="First of all: copy that mod into FOLDER."
        ),
    ] = "",
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Press a folder that you edit into an archive, with its release in a card.

    The same files give the same bytes on every system. Scratch files stay out of it. The archive goes beside
    the folder and onto the shelf.
    """
    from rellum.cli.views import press as view

    if from_installed:
        from rellum.core.actions.share.from_installed import copy_installed

        view.show_copy(
            copy_installed(request_of(pack, shelf=True), from_installed, folder), as_json=as_json
        )
        return
    if as_diffs and not patch_from:
        raise console.BadCall("--as-diffs goes with --patch-from VERSION")
    from rellum.core.actions.share.press import PressOptions
    from rellum.core.actions.share.press import press as action

    how = PressOptions(
        folder, mod, version, to, into, licence, tuple(leave_out or ()), again, fresh,
        patch_from, as_diffs,
    )  # fmt: skip
    with console.progress() as listen:
        found = action(request_of(pack, shelf=True, listen=listen), how)
    view.show(found, every=every, as_json=as_json)
