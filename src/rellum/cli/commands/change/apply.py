"""``rellum apply``."""

from __future__ import annotations

from rellum.cli import console, options
from rellum.cli.applying import apply_asking, tell_applied
from rellum.cli.views import apply as view


def apply(
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    sweep: options.Sweep = False,
    take_update: options.TakeUpdate = False,
    newest: options.Newest = None,
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Lay the line-up over the game: all of it or nothing.

    Shows what it will do and asks. What it replaces is kept, and comes back with 'restore'.
    """
    result = apply_asking(
        pack,
        yes=yes,
        even_if_running=even_if_running,
        sweep=sweep,
        take_update=take_update,
        newest=newest or (),
        every=every,
    )
    if as_json:
        console.say_json(view.document(result))
    tell_applied(result, every=every)
