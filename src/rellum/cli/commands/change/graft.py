"""``rellum graft``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of


def graft(
    name: Annotated[str, typer.Argument(metavar="[NAME]", help="What the graft is called.")] = "",
    donor: Annotated[
        str, typer.Option("--donor", metavar="PATH", help="Another game's folder, or an archive.")
    ] = "",
    slot: Annotated[
        str, typer.Option("--slot", metavar="FOLDER", help="The folder of this game to fill.")
    ] = "",
    take: Annotated[
        str, typer.Option("--take", metavar="PATTERN", help="Which files of the donor.")
    ] = "**",
    leave_out: Annotated[
        list[str] | None,
        typer.Option("--leave-out", metavar="PATTERN", help="Which of these not. Repeatable."),
    ] = None,
    rename: Annotated[
        list[str] | None,
        typer.Option("--rename", metavar="OLD=NEW", help="A file's name there. Repeatable."),
    ] = None,
    off: Annotated[bool, typer.Option("--off", help="Take the graft out.")] = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Put content of an older game, or an archive, into a slot of this one.

    Writes rellum.toml; 'rellum preview' lists the files of the slot that the donor does not provide.
    Without a name, lists the grafts.
    """
    from rellum.cli.views import decide as view
    from rellum.core.actions.change import graft as actions

    request = request_of(pack)
    if name and off:
        actions.drop_graft(request, name)
        console.say(f"The graft {name} is out of the pack. The next 'rellum apply' takes it out.")
    elif name:
        if not donor or not slot:
            raise console.BadCall(
                "a graft needs a donor and a slot",
                hint=f"rellum graft {name} --donor ../old-game --slot harbours/north",
            )
        pairs = [tuple(each.partition("=")[::2]) for each in rename or []]
        if any(not old or not new for old, new in pairs):
            raise console.BadCall("--rename OLD=NEW has two names")
        actions.add_graft(
            request,
            name,
            donor=donor,
            slot=slot,
            take=take,
            leave_out=leave_out or [],
            rename=[(old, new) for old, new in pairs],
        )
        console.say(f"The graft {name} is in the pack. Next: 'rellum preview' shows what it does.")
    if as_json or not name:
        view.show_grafts(actions.grafts(request), as_json=as_json)
