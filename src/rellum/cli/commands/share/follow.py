"""``rellum follow``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.applying import apply_asking, tell_applied
from rellum.cli.request import request_of
from rellum.cli.trusting import trust_in


def follow(
    address: Annotated[
        str,
        typer.Argument(
            metavar="[ADDRESS]",
            help="The feed's URL, folder or file; left out: the one that this pack follows.",
            show_default=False,
        ),
    ] = "",
    game: Annotated[
        str, typer.Option("--game", metavar="FOLDER", help="Your game, for a new pack.")
    ] = "",
    trust: options.Trust = "",
    version: Annotated[
        int,
        typer.Option(
            "--version", metavar="N", help="This version instead of the newest.", show_default=False
        ),
    ] = 0,
    no_swarm: Annotated[
        bool,
        typer.Option(
            "--no-swarm", help="From the feed's server alone; your address is shown to nobody else."
        ),
    ] = False,
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Get the pack that a curator published, and keep it up to date.

    The first time it makes a pack for your game. Your settings, saves and mods of your own stay. What may
    not be handed on comes from where its card says.
    """
    from rellum.cli.views import follow as view
    from rellum.core.actions.share.follow import FollowOptions, end_follow
    from rellum.core.actions.share.follow import follow as action
    from rellum.core.errors import BegunOnly

    how = FollowOptions(address, game, trust_in(trust), version, not no_swarm)
    with console.progress() as listen:
        found = action(request_of(pack, shelf=True, listen=listen, begins=bool(game)), how)
    request = request_of(pack)._replace(follows=True)
    try:
        if not as_json:
            view.show(found)
        fetched = view.fetch_missing(pack)
        if fetched and (fetched.failed or fetched.by_hand):
            end_follow(request, "waits")
            if as_json:
                console.say_json(view.document(found, None, fetched))
            else:
                view.show_missing(fetched)
            raise typer.Exit(1)
        result = apply_asking(
            pack, yes=yes, even_if_running=even_if_running, every=every, follows=True
        )
    except (typer.Exit, BegunOnly):
        raise
    except BaseException:
        end_follow(request, "refused")
        raise
    end_follow(request, "done" if result.done else "refused")
    if as_json:
        console.say_json(view.document(found, result, fetched))
    tell_applied(result, every=every)
    if not as_json:
        view.show_same(request_of(pack))
