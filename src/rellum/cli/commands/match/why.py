"""``rellum why``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import why as view


def why(
    mod: Annotated[str, typer.Argument(metavar="MOD", help="The mod's id.")],
    version: Annotated[str, typer.Argument(metavar="[VERSION]", help="Explain this release.")] = "",
    every: Annotated[bool, typer.Option("--full", help="Shorten no list.")] = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Explain why a mod, or one of its releases, is in the line-up or not.

    Who wants or needs it, what fixes its version, and what a newer one would need.
    """
    from rellum.core.actions.match.why import why as action

    answer = action(request_of(pack), mod, version)
    if as_json:
        console.say_json(view.document(answer))
        return
    if answer.chosen is None:
        console.say(console.styled(f"{answer.mod} is not in the line-up", "bold"))
        if not answer.asked_by:
            console.say("  The pack does not want it, and no chosen release needs it.")
    else:
        title = f"{answer.mod} {answer.chosen.label} is in the line-up"
        console.say(console.styled(title, "bold"))
        for group, choices in answer.chosen.options:
            console.say(f"  {group}: {', '.join(choices) or 'none'}")
    view.show_list("asked for", answer.asked_by)
    view.show_list("fixed by", answer.fixed_by)
    view.answers(answer, every=every)
