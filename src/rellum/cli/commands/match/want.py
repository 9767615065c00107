"""``rellum want`` and ``rellum drop``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import want as view


def want(
    mods: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="MOD[@RANGE]...",
            help="Mods by id, each with its allowed versions: tides@3+ (at least 3), 'tides@>=3, <4'. "
            "For one mod, the range may be a word of its own.",
        ),
    ] = None,
    optional: Annotated[
        bool | None,
        typer.Option("--optional/--needed", help="Leave the mod out if no release fits."),
    ] = None,
    choices: Annotated[
        list[str] | None,
        typer.Option(
            "--option", metavar="GROUP=CHOICE", help="Choose one of its options. Repeatable."
        ),
    ] = None,
    from_shelf: Annotated[
        bool, typer.Option("--shelf", help="Want every mod that is complete on the shelf.")
    ] = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Add mods to the pack, each with a version range.

    Writes them into rellum.toml; 'rellum resolve' then chooses the releases.
    """
    from rellum.core.actions.match import wants as actions

    view.refuse_redirected()
    words = [] if mods is None else mods
    if len(words) == 2 and "@" not in words[0] and view.is_range(words[1]):
        words = [f"{words[0]}@{words[1]}"]
    request = request_of(pack, shelf=from_shelf)
    if from_shelf:
        words = [*words, *actions.mods_on_shelf(request)]
    if not words and not from_shelf:
        raise console.BadCall(
            "name a mod, or use --shelf", hint="'rellum shelf' lists what is there."
        )
    chosen = view.options_of(choices or [])
    results = actions.want(request, words, optional=optional, options=chosen)
    if as_json:
        console.say_json(view.document(results))
    if len(results) == 1:
        view.show(results[0])
    elif results:
        view.show_all(results)
    else:
        console.say(
            "Nothing to add: the shelf has no complete mod that the pack does not want yet."
        )


def drop(
    mod: Annotated[str, typer.Argument(metavar="MOD", help="The mod's id.")],
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Remove a mod from the pack; the next apply takes it out of the game."""
    from rellum.core.actions.match.wants import drop as action

    action(request_of(pack), mod)
    if as_json:
        console.say_json({"mod": mod})
    console.say(
        f"{mod} is no longer wanted. The next 'rellum apply' removes it unless another mod needs it."
    )
