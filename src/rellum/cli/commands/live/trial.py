"""``rellum trial``."""

from __future__ import annotations

from typing import Annotated, Literal

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of


def trial(
    outcome: Annotated[
        Literal["works", "breaks"], typer.Argument(metavar="works|breaks", help="The outcome.")
    ],
    mods: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[MOD[@VERSION]...]", help="The releases you tried. Default: the line-up."
        ),
    ] = None,
    game: Annotated[
        str, typer.Option("--version", metavar="VERSION", help="The game version you tried it on.")
    ] = "",
    graft: Annotated[
        list[str] | None,
        typer.Option("--graft", metavar="NAME", help="A graft that was in the game. Repeatable."),
    ] = None,
    note: Annotated[str, typer.Option("--note", metavar="TEXT", help="What you saw.")] = "",
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Record that a line-up, or some releases, work or break on a game version.

    Releases that broke together are never chosen together again there. A release that works outside the
    range it declares may be chosen after 'rellum decide trust tried'.
    """
    from rellum.core.actions.live.trial import record_trial
    from rellum.core.values.paths import shown_file

    result = record_trial(
        request_of(pack), outcome, mods or [], game=game, note=note, grafts=graft or []
    )
    if as_json:
        from rellum.cli.documents.shared import release_of_mod

        console.say_json(
            {
                "outcome": result.outcome,
                "game_version": result.game.text,
                "date": result.date,
                "releases": [release_of_mod(mod, label) for mod, label in result.releases],
                "grafts": graft or [],
            }
        )
        return
    names = [f"{mod} {version}" for mod, version in result.releases]
    names += [f"graft {name}" for name in graft or []]
    few = 2
    shown = ", ".join(names[:few])
    shown += f" and {len(names) - few} more" if len(names) > few else ""
    verb = outcome if len(names) == 1 else outcome[:-1]
    console.say(f"Recorded in {shown_file(result.file)}: on game {result.game}, {shown} {verb}.")
    if outcome == "breaks" and graft:
        console.say(
            "'rellum preview' warns of that from now on, as long as the graft is in the pack."
        )
    elif outcome == "breaks":
        again = "They are not chosen together" if len(names) > 1 else "It is not chosen"
        console.say(f"{again} on that version again: see 'rellum resolve'.")
