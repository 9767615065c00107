"""``rellum play``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import play as view

if TYPE_CHECKING:
    from rellum.core.actions.live.play import Run, Said, Stage


def play(
    with_: Annotated[
        str,
        typer.Option(
            "--with", metavar="MOD", help="Start the program that this mod brings, or 'game'."
        ),
    ] = "",
    variant: Annotated[
        str, typer.Option("--variant", metavar="NAME", help="Switch to this variant first.")
    ] = "",
    outcome: Annotated[
        str,
        typer.Option(
            "--outcome", metavar="OUTCOME", help="works or breaks; 'log' takes what the log says."
        ),
    ] = "",
    limit: Annotated[
        float | None,
        typer.Option("--limit", metavar="SECONDS", min=0.1, help="End the game after this time."),
    ] = None,
    yes: options.Yes = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Start the game, compare its log with the line-up, and record how it went.

    The sheet says how the game starts, or a card, if a release brings a program for it. The answer becomes a
    trial; a pack that works becomes a good checkpoint.
    """
    from rellum.core.actions.live import play as actions

    if outcome not in ("", "works", "breaks", "log"):
        raise console.BadCall(f"--outcome {outcome}: it is works, breaks or log")
    if variant:
        _switch(variant, pack, yes=yes)

    def announce(stage: Stage) -> bool:
        if not as_json:
            view.show_stage(stage)
        return True

    def ask(stage: Stage, run: Run) -> Said:
        if not as_json:
            view.show_run(stage, run)
        return view.ask_outcome(run, outcome, may_ask=not (yes or as_json))

    result = actions.play(request_of(pack, shelf=True), announce, ask, with_=with_, limit=limit)
    if result is None:
        raise typer.Exit(1)
    view.show_result(result, as_json=as_json)
    if result.said.outcome == "breaks":
        raise typer.Exit(1)


def _switch(name: str, pack: str, *, yes: bool) -> None:
    from rellum.cli.switching import switch_asking

    switch_asking(name, pack, yes=yes, tells=False)
