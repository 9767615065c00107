"""``rellum resolve``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import resolve as view

_LONGER = 10
_REFUSED = "No line-up exists; looking for the shortest reason, and what would help"


def resolve(
    mods: Annotated[
        list[str] | None,
        typer.Argument(metavar="[MOD...]", help="With --fresh: choose only these anew."),
    ] = None,
    fresh: Annotated[
        bool, typer.Option("--fresh", help="Choose anew, ignoring the current line-up.")
    ] = False,
    longer: Annotated[
        bool,
        typer.Option(
            "--longer", help="If there is none: look ten times as long for why, and what helps."
        ),
    ] = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Choose releases that work together and fit the game.

    Writes rellum.lock. Releases chosen before stay while they fit, unless --fresh.
    """
    if mods and not fresh:
        raise console.BadCall(
            "mods are named only with --fresh",
            hint=f"Write rellum resolve --fresh {' '.join(mods)}",
        )
    if not fresh:
        from rellum.core.actions.match.resolved_again import resolved_again

        if (told := resolved_again(request_of(pack, shelf=True))) is not None:
            view.show_again(told, as_json=as_json)
            return
    from rellum.cli.passing import passing_line
    from rellum.core.actions.match.resolve import choose_none
    from rellum.core.actions.match.resolve import resolve as action
    from rellum.core.composing.line_up import Explaining

    with passing_line() as say:
        result = action(
            request_of(pack, shelf=True),
            fresh=fresh,
            fresh_mods=mods or [],
            choose=view.choose if not as_json else choose_none,
            explaining=Explaining(_LONGER if longer else 1, lambda: say(_REFUSED)),
            tell_again=view.tell_again,
        )
    if as_json:
        console.say_json(view.document(result))
        return
    view.show(result)
