"""``rellum check``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import check as view


def check(
    deep: Annotated[
        bool, typer.Option("--deep", help="Hash every file, even if size and time are unchanged.")
    ] = False,
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Check the game folder for drift.

    Sorts what differs by its cause, and names for each the command that deals with it. Exit status 1
    if anything differs.
    """
    from rellum.core.actions.mend.check import check as action

    with console.progress() as listen:
        drift = action(request_of(pack, listen=listen), deep=deep)
    if as_json:
        console.say_json(view.drift_document(drift))
    elif drift.findings:
        view.show(drift, every=every)
    elif drift.damaged_originals:
        console.say(f"The game has no drift. {drift.files_seen:,} entries checked.")
    else:
        hashed = f", {drift.files_hashed:,} hashed" if drift.files_hashed else ""
        console.say(f"No drift. {drift.files_seen:,} entries checked{hashed}.")
        if drift.touched:
            files = console.count_text(len(drift.touched), "file")
            console.say(f"{files} with a new time but unchanged content.")
    if drift.own_changes and not as_json:
        view.show_own_changes(drift, every=every)
    if drift.guard and not as_json:
        view.show_guard(drift.guard)
    if drift.damaged_originals and not as_json:
        view.show_damaged_originals(drift)
    if drift.findings or drift.damaged_originals or (drift.guard and drift.guard.broken):
        raise typer.Exit(1)
