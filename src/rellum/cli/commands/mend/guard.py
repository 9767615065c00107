"""``rellum guard``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of


def guard(
    state: Annotated[str, typer.Argument(metavar="on|off", help="Turn the guard on or off.")],
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Block store updates by making the store's update files read-only.

    The game sheet names them under 'store-files'. Their modes are remembered, and 'off' puts them back;
    'rellum check' says whether the guard holds.
    """
    from rellum.core.actions.mend.guard import guard as action
    from rellum.core.values.paths import shown

    if state not in ("on", "off"):
        raise typer.BadParameter("say 'on' or 'off'")
    result = action(request_of(pack), state == "on")
    if as_json:
        console.say_json({"is_on": result.is_on, "files": list(result.files)})
    if not result.files:
        console.say("Nothing to do: nothing was guarded.")
        return
    what = "read-only now" if result.is_on else "with the mode of before"
    console.say(f"{console.count_text(len(result.files), 'file')} {what}:")
    for path in result.files[:20]:
        console.say(f"  {console.one_line(shown(path))}")
