"""``rellum hold``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of


def hold(
    mod: Annotated[str, typer.Argument(metavar="MOD", help="The mod's id.")],
    version: Annotated[str, typer.Argument(metavar="[VERSION]", help="The release to keep.")] = "",
    reason: Annotated[str, typer.Option("--reason", metavar="TEXT", help="Why you pin it.")] = "",
    off: Annotated[bool, typer.Option("--off", help="Remove the hold.")] = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Pin a release of a mod, with a reason; --off unpins it.

    A held mod is only ever taken at that release. A hold does not ask for the mod: 'rellum want' does.
    """
    from rellum.core.actions.match.wants import hold as action
    from rellum.core.actions.match.wants import let_go

    if off:
        let_go_of = let_go(request_of(pack), mod)
        if as_json:
            console.say_json(
                {"mod": mod, "version": str(let_go_of), "reason": None, "is_held": False}
            )
        console.say(f"{mod} is no longer held at {let_go_of}.")
        return
    if not version or not reason.strip():
        lacking = "a version" if not version else "a reason"
        raise console.BadCall(
            f"a hold needs {lacking}",
            hint=f"Write e.g. rellum hold {mod} 3.2 --reason '3.3 makes the tides run backwards'.",
        )
    found = action(request_of(pack), mod, version, reason.strip())
    if as_json:
        console.say_json(
            {"mod": mod, "version": str(found), "reason": reason.strip(), "is_held": True}
        )
    console.say(f"The pack holds {mod} at {found}: {reason.strip()}")
