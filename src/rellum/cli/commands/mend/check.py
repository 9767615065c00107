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
    against: Annotated[
        str,
        typer.Option(
            "--against", metavar="ADDRESS", help="Prove that you have what this feed's curator has."
        ),
    ] = "",
    trust: options.Trust = "",
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Check the game folder for drift.

    Sorts what differs by its cause, and names for each the command that deals with it. Exit status 1
    if anything differs.
    """
    from rellum.core.actions.mend.check import check as action

    if against:
        _prove(pack, against, trust, every=every, as_json=as_json)
        return
    with console.progress() as listen:
        drift = action(request_of(pack, listen=listen), deep=deep)
    is_lost = bool(drift.missing_originals or drift.damaged_originals)
    if as_json:
        console.say_json(view.drift_document(drift))
    elif drift.findings:
        view.show(drift, every=every)
    elif is_lost:
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
    if is_lost and not as_json:
        view.show_lost_originals(drift)
    if drift.findings or is_lost or (drift.guard and drift.guard.broken):
        raise typer.Exit(1)


def _prove(pack: str, address: str, trust: str, *, every: bool, as_json: bool) -> None:
    from rellum.cli.trusting import trust_in
    from rellum.cli.views import sameness
    from rellum.core.actions.share.sameness import prove

    with console.progress() as listen:
        proof = prove(request_of(pack, listen=listen), address, trust_in(trust))
    sameness.show(proof, every=every, as_json=as_json)
    if not proof.is_same:
        raise typer.Exit(1)
