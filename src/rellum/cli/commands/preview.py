"""``rellum preview``."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console, options

if TYPE_CHECKING:
    from rellum.core.actions.apply import Preview


def preview(
    every: options.All = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show what apply would do, file by file; change nothing."""
    from rellum.cli import render
    from rellum.cli.recovery import tell_recovered
    from rellum.core.actions.apply import preview as action
    from rellum.core.shelf.store import shelf_folder

    result = action(pack, shelf_folder(), tell_recovered)
    if as_json:
        console.say_json(
            {
                **render.plan_document(result.plan, result.space),
                "line_up_made_anew": result.made_anew,
                "hidden": result.target.hidden,
            }
        )
        return
    show_preview(result, files=True, every=every)


def show_preview(result: Preview, *, files: bool, every: bool) -> None:
    """Print a preview for people: file by file if ``files``, and mod by mod."""
    from rellum.cli import render

    if result.made_anew:
        console.warn("rellum.toml asks for something else than rellum.lock has: chosen anew")
    if not result.plan.visible:
        console.say("Nothing to do: the game folder is as the line-up wants it.")
        return
    if files or every:
        render.plan_lines(result.plan, every=every)
        console.say()
    order = [f"{release.mod} {release.version}" for release in result.lock.releases]
    rows = render.release_rows(result.plan, order)
    console.table(("whose", "new", "replaced", "gone", "bytes"), rows, right=(1, 2, 3, 4))
    for owner, count in sorted(result.target.hidden.items()):
        hidden = console.count_text(count, "file is hidden", "files are hidden")
        console.say(f"{owner}: {hidden} by other mods: see 'rellum conflicts'.")
    console.say()
    console.say(render.plan_summary(result.plan, result.space))
