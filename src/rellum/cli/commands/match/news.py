"""``rellum news``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import news as view


def news(
    mods: Annotated[
        list[str] | None,
        typer.Argument(metavar="[MOD...]", help="Only these mods. Default: all in the line-up."),
    ] = None,
    look: Annotated[
        bool,
        typer.Option("--look", help="Ask the sites that the cards name for versions no card has."),
    ] = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show newer releases, and what would change if you take one.

    With --look: ask where the mods are published. A page is asked for at most once in six hours.
    """
    if look:
        from rellum.core.actions.match.look import look as look_action

        looked = look_action(request_of(pack), mods or [])
        if as_json:
            console.say_json(view.looked_document(looked))
        else:
            view.show_looked(looked)
        return
    from rellum.core.actions.match.news import news as action

    result = action(request_of(pack, shelf=True), mods or [])
    if as_json:
        console.say_json(view.document(result))
        return
    if not result.releases:
        count = console.count_text(result.mods, "mod")
        console.say(
            f"No newer releases of {count}: the line-up has the newest."
            if result.mods
            else "The line-up has no mods, so there is nothing to look for."
        )
        return
    console.say(console.styled(f"Newer releases, for game {result.game}", "bold"))
    headings = ("news", "mod", "now", "newer", "as", "size", "if you take it")
    console.table(headings, view.rows(result), right=(5,))
    free = [each.release.mod for each in result.releases if each.outcome.is_free]
    console.say()
    if free:
        console.say(
            f"To take the free ones: rellum resolve --fresh {' '.join(dict.fromkeys(free))}"
        )
    console.say("For details: 'rellum why MOD VERSION'.")
