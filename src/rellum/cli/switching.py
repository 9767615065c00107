"""Switching to another variant as a person sees it: for 'variant use', and for 'play --variant'."""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from rellum.cli import console
from rellum.cli.applying import is_outside_meant
from rellum.cli.request import request_of
from rellum.cli.views import variant as view

if TYPE_CHECKING:
    from rellum.core.actions.change.switch_variant import Switch


def switch_asking(
    name: str,
    pack: str,
    *,
    yes: bool,
    with_drift: bool = False,
    every: bool = False,
    even: bool = False,
    tells: bool = True,
) -> None:
    """Show what a switch would do, ask, and switch; exit with 1 where the user says no.

    ``tells``: a program that wants a document gets that of the switch.
    """
    from rellum.cli.views import apply as answers
    from rellum.core.actions.change import switch_variant as actions
    from rellum.core.composing.answers import Asking

    def ask(switch: Switch) -> bool:
        console.clear_progress()
        view.show_switch(switch, files=not yes, every=every)
        if not is_outside_meant(switch.preview, yes=yes):
            return False
        return console.confirm(f"Switch to {name}?", yes=yes)

    asking = Asking(settings=answers.who_wins, same_name=answers.how_deep)
    while True:
        try:
            with console.progress() as listen:
                request = request_of(pack, listen=listen, even_if_running=even, shelf=True)
                result = actions.use_variant(request, name, ask, asking, with_drift=with_drift)
            break
        except actions.SwitchWithDrift as error:
            if yes or not console.is_interactive():
                raise
            with_drift = view.decide_drift(error, request)
    if tells and console.wants_json():
        console.say_json(view.switched_document(result, name))
    if not view.show_switched(result, name):
        raise typer.Exit(1)
