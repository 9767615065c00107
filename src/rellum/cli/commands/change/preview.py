"""``rellum preview``."""

from __future__ import annotations

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import preview as view


def preview(
    sweep: options.Sweep = False,
    take_update: options.TakeUpdate = False,
    newest: options.Newest = None,
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show what apply would do, file by file, and change nothing.

    While archives are missing, it shows which releases would come, go or change.
    """
    from rellum.core.actions.change.apply import preview as action
    from rellum.core.actions.change.outline import outline
    from rellum.core.composing.needed import MissingArchives

    try:
        with console.progress() as listen:
            result = action(
                request_of(pack, listen=listen, shelf=True),
                sweep=sweep,
                take_update=take_update,
                newest=newest or (),
            )
    except MissingArchives:
        view.show_outline(outline(request_of(pack, shelf=True), newest or ()))
        raise
    if as_json:
        console.say_json(view.document(result))
        return
    view.show_preview(result, files=True, every=every, sweeps=sweep)
