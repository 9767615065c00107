"""``rellum vet``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of


def vet(
    folders: Annotated[
        list[str] | None,
        typer.Argument(metavar="[CATALOG...]", help="Catalog folders. Default: the pack's."),
    ] = None,
    sheet: Annotated[
        str, typer.Option("--sheet", metavar="ID", help="Read the cards for this game.")
    ] = "",
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Check a catalog and list every mistake with its file and line.

    Mistakes in each sheet, card and trial, and between them: needs that nothing can meet, unknown mods
    and expansions, contradictions, load cycles. Exit status 1 if there are any.
    """
    from rellum.core.actions.gather.vet import vet_catalog
    from rellum.core.catalog.open_lines import MARK

    result = vet_catalog(request_of(pack), folders or [], sheet)
    if as_json:
        console.say_json(
            {
                "catalogs": list(result.folders),
                "card_count": result.cards,
                "release_count": result.releases,
                "trial_count": result.trials,
                "faults": list(result.faults),
                "notes": list(result.notes),
            }
        )
    else:
        for fault in result.faults:
            console.say(fault)
        for note in result.notes:
            console.say(f"note: {note}")
        seen = ", ".join(
            (
                console.count_text(result.cards, "card"),
                console.count_text(result.releases, "release"),
                console.count_text(result.trials, "trial"),
            )
        )
        if result.faults:
            console.say()
            open_lines = sum(f": {MARK}: " in each for each in result.faults)
            mistakes = len(result.faults) - open_lines
            told = [console.count_text(mistakes, "mistake")] if mistakes else []
            told += [f"{console.count_text(open_lines, 'line')} to decide"] if open_lines else []
            console.say(f"{' and '.join(told)} in {seen}.")
        else:
            console.say(f"No mistakes: {seen}.")
    if result.faults:
        raise typer.Exit(1)
