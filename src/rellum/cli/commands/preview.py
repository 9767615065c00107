"""``rellum preview``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rellum.cli import console, options

if TYPE_CHECKING:
    from rellum.core.actions.apply import Preview
    from rellum.core.actions.settling import SettingsConflict
    from rellum.core.layers.grafting import Shape


def preview(
    sweep: options.Sweep = False,
    every: options.All = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show what apply would do, file by file; change nothing."""
    from rellum.cli import render
    from rellum.cli.recovery import tell_recovered
    from rellum.core.actions.apply import preview as action
    from rellum.core.shelf.store import shelf_folder

    result = action(pack, shelf_folder(), tell_recovered, sweep=sweep)
    if as_json:
        from rellum.core.paths import shown

        console.say_json(
            {
                **render.plan_document(result.plan, result.space),
                "line_up_made_anew": result.made_anew,
                "hidden": result.target.hidden,
                "ways": dict(result.ways),
                "leftovers": [shown(each.path) for each in result.leftovers],
                "grafts": [_shape_document(each) for each in result.shapes],
                "settings": [_settings_document(each) for each in result.settings],
            }
        )
        return
    show_preview(result, files=True, every=every, sweeps=sweep)


def show_preview(result: Preview, *, files: bool, every: bool, sweeps: bool) -> None:
    """Print a preview for people: file by file if ``files``, and mod by mod."""
    from rellum.cli import render

    if result.made_anew:
        console.warn("rellum.toml asks for something else than rellum.lock has: chosen anew")
    if not result.plan.visible:
        console.say("Nothing to do: the game folder is as the line-up wants it.")
        if not sweeps:
            _show_leftovers(result, every=every)
        return
    if files or every:
        render.plan_lines(result.plan, every=every)
        console.say()
    order = [f"{release.mod} {release.version}" for release in result.lock.releases]
    rows = render.release_rows(result.plan, order)
    console.table(("whose", "new", "replaced", "gone", "bytes"), rows, right=(1, 2, 3, 4))
    touched = {each.after_owner for each in result.plan.visible}
    for owner, way in result.ways:
        if owner in touched:
            console.say(f"{owner} is laid as {way}.")
    for owner, count in sorted(result.target.hidden.items()):
        hidden = console.count_text(count, "file is hidden", "files are hidden")
        console.say(f"{owner}: {hidden} by other mods: see 'rellum conflicts'.")
    for conflict in result.settings:
        _show_conflict(conflict)
    _show_left_alone(result, every=every)
    _show_grafts(result, every=every)
    if not sweeps:
        _show_leftovers(result, every=every)
    console.say()
    console.say(render.plan_summary(result.plan, result.space))


def _show_conflict(conflict: SettingsConflict) -> None:
    from rellum.core.paths import shown

    who = {"mine": "yours stay", "theirs": f"{conflict.owner} wins; a copy of yours is kept"}
    outcome = who[conflict.side] if conflict.side else "open: 'apply' asks who wins"
    console.say(f"{shown(conflict.path)}: settings that you and a release changed ({outcome})")
    for line in conflict_lines(conflict):
        console.say(line)


def conflict_lines(conflict: SettingsConflict) -> list[str]:
    """Return what both want, a line a key."""
    return [
        f"  {each.key}: yours {each.mine or 'gone'}, {conflict.owner} {each.theirs or 'gone'}"
        for each in conflict.conflicts
    ]


def _show_left_alone(result: Preview, *, every: bool) -> None:
    from rellum.cli.render import MOST_LINES
    from rellum.core.paths import shown

    left = result.plan.left_alone if every else result.plan.left_alone[:MOST_LINES]
    for path, why in left:
        console.say(f"{shown(path)}: {why}.")


def _show_grafts(result: Preview, *, every: bool) -> None:
    """Say how each graft fits its slot, and name what it has nothing for."""
    from rellum.cli.render import MOST_LINES
    from rellum.core.catalog.toml_lines import place_of
    from rellum.core.paths import shown

    for shape in result.shapes:
        extra = f", {len(shape.extra):,} more than it had" if shape.extra else ""
        total = len(shape.provided) + len(shape.missing)
        console.say(
            f"graft {shape.graft}: {len(shape.provided):,} of the slot's {total:,} files{extra}."
        )
        missing = shape.missing if every else shape.missing[:MOST_LINES]
        for path in missing:
            console.say(f"  nothing for {shown(path)}")
        if len(missing) < len(shape.missing):
            console.say(f"  … and {len(shape.missing) - len(missing):,} more (--all lists all)")
    for trial in result.graft_trials:
        note = f": {trial.note}" if trial.note else ""
        names = ", ".join(trial.grafts)
        console.warn(
            f"graft {names} broke on game {trial.game}, tried {trial.date}{note} "
            f"({place_of(trial.source)})"
        )


def _show_leftovers(result: Preview, *, every: bool) -> None:
    from rellum.cli.render import MOST_LINES
    from rellum.core.paths import shown

    leftovers = result.leftovers if every else result.leftovers[:MOST_LINES]
    if leftovers:
        files = console.count_text(len(result.leftovers), "file")
        console.say(f"{files} left over from older releases; --sweep sets them aside:")
        for each in leftovers:
            console.say(f"  {shown(each.path)}  ({each.named_by})")


def _shape_document(shape: Shape) -> dict[str, Any]:
    from rellum.core.paths import shown

    return {
        "graft": shape.graft,
        "provided": [shown(path) for path in shape.provided],
        "extra": [shown(path) for path in shape.extra],
        "missing": [shown(path) for path in shape.missing],
    }


def _settings_document(conflict: SettingsConflict) -> dict[str, Any]:
    from rellum.core.paths import shown

    return {
        "path": shown(conflict.path),
        "owner": conflict.owner,
        "side": conflict.side,
        "conflicts": [
            {"key": each.key, "mine": each.mine, "theirs": each.theirs}
            for each in conflict.conflicts
        ],
    }
