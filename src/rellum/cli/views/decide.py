"""What ``rellum decide`` and ``rellum graft`` show."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.change import (
        DecidedDocument,
        DecisionDocument,
        DecisionsDocument,
        GraftsDocument,
    )
    from rellum.core.actions.change.decide import Decision
    from rellum.core.pack.grafts import Graft


def show(found: Sequence[Decision], *, as_json: bool) -> None:
    if as_json:
        document: DecisionsDocument = {"decisions": [_document(each) for each in found]}
        console.say_json(document)
    rows = [(each.kind, each.key, each.value) for each in found]
    console.table(("what", "of", "decided"), rows)
    console.say()
    console.say("'rellum decide --help' lists what else can be decided.")


def show_one(decision: Decision, *, is_off: bool, as_json: bool) -> None:
    if as_json:
        document: DecidedDocument = {"decision": _document(decision), "is_decided": not is_off}
        console.say_json(document)
    what = f"{decision.kind} {decision.key}".rstrip()
    if is_off:
        console.say(f"No longer decided: {what} was {decision.value}.")
    else:
        console.say(f"Written to rellum.toml: {what} is {decision.value}.")


def _document(decision: Decision) -> DecisionDocument:
    return {"kind": decision.kind, "key": decision.key or None, "value": decision.value}


def show_grafts(grafts: Sequence[Graft], *, as_json: bool) -> None:
    if as_json:
        document: GraftsDocument = {
            "grafts": [
                {"name": each.name, "donor": each.donor, "take": each.take, "slot": each.slot}
                for each in grafts
            ]
        }
        console.say_json(document)
    if not grafts:
        console.say("The pack has no grafts.")
        return
    rows = [(each.name, each.slot, each.donor, each.take) for each in grafts]
    console.table(("graft", "slot", "donor", "takes"), rows)
