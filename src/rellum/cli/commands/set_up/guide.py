"""``rellum guide``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options


def guide(
    page: Annotated[
        str, typer.Argument(metavar="[PAGE]", help="Which page; without it, the guide by tasks.")
    ] = "guide",
    listed: Annotated[bool, typer.Option("--list", help="List the pages.")] = False,
    as_json: options.Json = False,
) -> None:
    """Read the guide and the reference, which come with the program.

    The pages are Markdown, readable as they are: rellum guide | less
    """
    from rellum.cli.pages import page_file, pages
    from rellum.core.nearest import nearest

    known = pages()
    if listed:
        if as_json:
            console.say_json({"pages": list(known)})
        console.table(("page", "what it is about"), list(known.items()))
        return
    if page not in known:
        raise console.BadCall(
            f"there is no page {page!r}{nearest(page, known)}",
            hint="'rellum guide --list' lists them.",
        )
    with open(page_file(page), encoding="utf-8") as file:
        text = file.read()
    if as_json:
        console.say_json({"page": page, "text": text})
    console.say_page(text)
