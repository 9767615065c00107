"""``rellum restore``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import restore as view

if TYPE_CHECKING:
    from rellum.core.actions.mend.restore import Confirm, RestoreResult
    from rellum.core.change.request import Request


def restore(
    paths: Annotated[
        list[str] | None,
        typer.Argument(metavar="[PATH]...", help="Files or folders, relative to the game folder."),
    ] = None,
    mod: Annotated[str, typer.Option("--mod", metavar="ID", help="Every file of this mod.")] = "",
    everything: Annotated[
        bool, typer.Option("--all", help="The whole game folder, as you adopted it.")
    ] = False,
    damaged: Annotated[
        bool,
        typer.Option("--damaged", help="Everything that 'rellum check' finds wrong."),
    ] = False,
    interrupted: Annotated[
        bool,
        typer.Option("--interrupted", help="An interrupted change whose journal is damaged."),
    ] = False,
    deep: Annotated[
        bool, typer.Option("--deep", help="With --all: read every byte to find what changed.")
    ] = False,
    source: options.From = "",
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Restore vanilla: single files, those under a mod, or the whole game."""
    if sum((bool(paths), bool(mod), everything, damaged, interrupted)) != 1:
        raise typer.BadParameter(
            "name either files, or --mod ID, or --damaged, or --interrupted, or --all"
        )
    if deep and not everything:
        raise typer.BadParameter("--deep goes with --all")
    ask = view.asker(yes)
    if interrupted:
        _mend_interrupted(pack, ask, source, as_json=as_json)
        return
    if damaged:
        from rellum.core.actions.mend.repair import restore_damaged

        result = restore_damaged(
            request_of(pack, even_if_running=even_if_running, shelf=True), ask, source=source
        )
    else:
        with console.progress() as listen:
            request = request_of(pack, shelf=True, even_if_running=even_if_running, listen=listen)
            result = _restore(tuple(paths or ()), mod, request, ask, source, deep=deep)
    if as_json:
        console.say_json(view.document(result))
    if not result.done:
        console.say("Nothing was changed.")
        raise typer.Exit(1)
    _tell(result, damaged=damaged, everything=everything)


def _tell(result: RestoreResult, *, damaged: bool, everything: bool) -> None:
    """Say what was restored, and what stays as it is. Raises typer.Exit where something does."""
    view.show(result.restoration, damaged=damaged, everything=everything)
    if result.restoration.plan.left_alone:
        raise typer.Exit(1)


def _mend_interrupted(pack: str, ask: Confirm, source: str, *, as_json: bool) -> None:
    """Mend what a change with a damaged journal left, and say what cannot be told."""
    from rellum.core.actions.mend.interrupted import mend_interrupted

    result = mend_interrupted(request_of(pack, shelf=True), ask, source=source)
    mended = result.mended
    if as_json:
        console.say_json(view.mended_document(result))
    if mended is None:
        console.say("Nothing to do: no interrupted change has a damaged journal.")
        return
    view.show_mended(mended)
    if result.repair is None:
        console.say("The game was updated meanwhile: see 'rellum check'.")
        raise typer.Exit(1)
    if not result.repair.done:
        console.say("Other findings of 'rellum check' were left as they are.")
        raise typer.Exit(1)
    _tell(result.repair, damaged=True, everything=False)
    if mended.lost != 0 or mended.left or mended.unknown or mended.rescued:
        raise typer.Exit(1)


def _restore(
    paths: tuple[str, ...],
    mod: str,
    request: Request,
    ask: Confirm,
    source: str,
    *,
    deep: bool,
) -> RestoreResult:
    from rellum.core.actions.mend import restore as actions

    if mod:
        return actions.restore_mod(request, mod, ask, source)
    if paths:
        return actions.restore_paths(request, paths, ask, source)
    return actions.restore_all(request, ask, source=source, deep=deep)
