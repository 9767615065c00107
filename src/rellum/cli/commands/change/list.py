"""``rellum list``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of


def list_(
    words: Annotated[
        list[str] | None,
        typer.Argument(metavar="[WORD]...", help="Only mods whose id, name or kind has all these."),
    ] = None,
    catalog: Annotated[
        bool, typer.Option("--catalog", help="What could be had: the mods of the catalog.")
    ] = False,
    form: Annotated[
        str,
        typer.Option("--form", metavar="table|text|markdown|csv", help="How the list is written."),
    ] = "table",
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """List the mods in the game: version, since when, from where, who needs them.

    As text or Markdown the list can be pasted into a chat or a page.
    """
    from rellum.cli.views import list_mods as view
    from rellum.core.actions.change import list_mods as actions

    if form not in view.FORMS:
        raise console.BadCall(f"--form {form}: it is {', '.join(view.FORMS)}")
    if as_json and form != "table":
        raise console.BadCall(f"--json and --form {form} exclude each other")
    request = request_of(pack, shelf=True)
    if catalog:
        mods = actions.list_catalog(request, words or [])
        view.show_catalog(mods, form, narrowed=bool(words), as_json=as_json)
    else:
        found = actions.list_mods(request, words or [])
        view.show(found, form, narrowed=bool(words), as_json=as_json)
