"""``rellum decide``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of


def decide(
    what: Annotated[
        str, typer.Argument(metavar="[WHAT]", help="What to decide; without it, all decisions.")
    ] = "",
    words: Annotated[
        list[str] | None,
        typer.Argument(metavar="[KEY] [VALUE]", help="What it is about, and what is decided."),
    ] = None,
    off: Annotated[
        bool, typer.Option("--off", help="Take the decision out of rellum.toml.")
    ] = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show and settle what the pack decides: who wins, trust, places, catalogs.

    Writes rellum.toml, and keeps its comments and order. WHAT is one of: winner PATH MOD, settings PATH
    mine|theirs, nested PATH once|twice, trust declared|tried, game-range RANGE, game-folder FOLDER, profile
    NAME, place NAME FOLDER, variable NAME TEXT, catalog FOLDER, source FOLDER, look-at TEXT, name NAME.
    """
    from rellum.cli.views import decide as view
    from rellum.core.actions.change import decide as actions
    from rellum.core.nearest import nearest

    request = request_of(pack)
    if not what:
        view.show(actions.decisions(request), as_json=as_json)
        return
    if what not in actions.FORMS:
        raise console.BadCall(
            f"'rellum decide {what}': nothing is called so{nearest(what, actions.FORMS)}",
            hint=f"It is one of {', '.join(actions.FORMS)}.",
        )
    kind = what
    form = actions.FORMS[kind]
    given = words or []
    wanted = int(bool(form.key)) + (0 if off and not form.is_list else 1)
    if len(given) != wanted:
        raise console.BadCall(
            f"'rellum decide {what}' takes {console.count_text(wanted, 'word')}",
            hint=f"rellum decide {what} {form.key} {form.value}".replace("  ", " "),
        )
    if off:
        gone = actions.undecide(request, kind, given[0] if given else "")
        view.show_one(gone, is_off=True, as_json=as_json)
        return
    key = given[0] if form.key else ""
    made = actions.decide(request, kind, key, given[-1])
    view.show_one(made, is_off=False, as_json=as_json)
