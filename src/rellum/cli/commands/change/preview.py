"""``rellum preview``."""

from __future__ import annotations

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import preview as view


def preview(
    sweep: options.Sweep = False,
    take_update: options.TakeUpdate = False,
    newest: options.Newest = None,
    every: options.All = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show what apply would do, file by file, and change nothing.

    While archives are missing, it shows which releases would come, go or change.
    """
    from rellum.cli.views import plans
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
        if not as_json:
            view.show_outline(outline(request_of(pack, shelf=True), newest or ()))
        raise
    if as_json:
        from rellum.core.values.paths import shown

        console.say_json(
            {
                **plans.plan_document(result.plan, result.space),
                "line_up_made_anew": result.made_anew,
                "game_update": {
                    "from": result.rebase.before.version.text,
                    "to": result.rebase.now.version.text,
                    "changed": [shown(path) for path in result.rebase.changed],
                    "new": [shown(path) for path in result.rebase.new],
                    "gone": [shown(path) for path in result.rebase.gone],
                    "overwritten": [shown(each.path) for each in result.rebase.overwritten],
                    "lacking": [shown(path) for path in result.rebase.lacking],
                    "beside": [shown(path) for path in result.rebase.beside],
                }
                if result.rebase
                else None,
                "hidden": {str(owner): n for owner, n in result.target.hidden.items()},
                "new_places": dict(result.new_places),
                "by_hand": [
                    {"release": str(owner), "note": note} for owner, note in result.by_hand
                ],
                "notes": [{"owner": str(owner), "note": note} for owner, note in result.notes],
                "broken_saves": [
                    {
                        "mod": each.mod,
                        "before": each.before,
                        "after": each.after,
                        "back": each.back,
                    }
                    for each in result.broken_saves
                ],
                "leftovers": [shown(each.path) for each in result.leftovers],
                "grafts": [view.shape_document(each) for each in result.shapes],
                "settings": [view.settings_document(each) for each in result.settings],
                "same_names": [view.same_name_document(each) for each in result.same_names],
            }
        )
        return
    view.show_preview(result, files=True, every=every, sweeps=sweep)
