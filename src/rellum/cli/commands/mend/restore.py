"""``rellum restore``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of

if TYPE_CHECKING:
    from rellum.core.actions.mend.restore import Confirm, Restoration, RestoreResult


def restore(
    paths: Annotated[
        list[str] | None,
        typer.Argument(metavar="[PATH]...", help="Files or folders, relative to the game folder."),
    ] = None,
    mod: Annotated[str, typer.Option("--mod", metavar="ID", help="Every file of this mod.")] = "",
    everything: Annotated[
        bool, typer.Option("--all", help="The whole game folder, as you adopted it.")
    ] = False,
    damaged: Annotated[
        bool,
        typer.Option("--damaged", help="Everything that 'rellum check' finds wrong."),
    ] = False,
    interrupted: Annotated[
        bool,
        typer.Option("--interrupted", help="An interrupted change whose journal is damaged."),
    ] = False,
    source: options.From = "",
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    pack: options.Pack = options.HERE,
) -> None:
    """Restore vanilla: single files, those under a mod, or the whole game."""
    if sum((bool(paths), bool(mod), everything, damaged, interrupted)) != 1:
        raise typer.BadParameter(
            "name either files, or --mod ID, or --damaged, or --interrupted, or --all"
        )
    ask = _asker(yes)
    if interrupted:
        _mend_interrupted(pack, ask, source)
        return
    if damaged:
        from rellum.core.actions.mend.repair import restore_damaged

        result = restore_damaged(
            request_of(pack, even_if_running=even_if_running, shelf=True), ask, source=source
        )
    else:
        result = _restore(tuple(paths or ()), mod, pack, ask, source, even_if_running)
    if not result.done:
        console.say("Nothing was changed.")
        raise typer.Exit(1)
    _tell(result, damaged=damaged, everything=everything)


def _tell(result: RestoreResult, *, damaged: bool, everything: bool) -> None:
    """Say what was restored, and what stays as it is. Raises typer.Exit where something does."""
    restoration = result.restoration
    plan = restoration.plan
    if plan.visible:
        from rellum.core.values.owners import FOREIGN

        mended = sum(each.effect == "mends" for each in plan.visible)
        back = sum(each.after is not None for each in plan.visible) - mended
        gone = sum(each.after is None and each.found.owner is not FOREIGN for each in plan.visible)
        counts = [
            f"{console.count_text(back, 'original')} back" if back else "",
            f"{console.count_text(mended, 'file')} of mods repaired" if mended else "",
            f"{console.count_text(gone, 'file')} of mods taken out" if gone else "",
        ]
        console.say(f"Restored: {', '.join(filter(None, counts))}.")
    elif not plan.left_alone:
        console.say(
            "Nothing to do: nothing is damaged."
            if damaged
            else "Nothing to do: that is vanilla already."
        )
    if any(each.keep for each in plan.operations):
        from rellum.cli.render import tell_kept

        tell_kept(plan)
    _tell_rest(restoration, everything=everything, lays_again=not damaged)
    if plan.left_alone:
        raise typer.Exit(1)


def _mend_interrupted(pack: str, ask: Confirm, source: str) -> None:
    """Mend what a change with a damaged journal left, and say what cannot be told."""
    from rellum.cli import render
    from rellum.core.actions.mend.interrupted import mend_interrupted
    from rellum.core.values.paths import shown

    result = mend_interrupted(request_of(pack, shelf=True), ask, source=source)
    mended = result.mended
    if mended is None:
        console.say("Nothing to do: no interrupted change has a damaged journal.")
        return
    action = f"'{mended.action}'" if mended.action else "The interrupted change"
    outcome = "was undone, as far as it is known"
    if mended.is_done is not False:
        outcome = "was done, and stays" if mended.is_done else "had begun; what it did is not known"
    console.say(f"{action} {outcome}. Its journal is kept: {mended.journal}")
    if mended.lost != 0:
        count = console.count_text(mended.lost, "file") if mended.lost else "files"
        console.warn(f"{count} of that change cannot be named any more, and may be missing")
    for path in mended.left:
        console.warn(f"{shown(path)} could not be put back as it was, and stays as it is")
    if mended.unknown:
        count = console.count_text(len(mended.unknown), "file")
        render.tell_paths(
            mended.unknown, f"It cannot be told whether {count} came by that change; left alone:"
        )
    if mended.rescued:
        count = console.count_text(mended.rescued_files, "copy", "copies")
        console.warn(f"{count} of which it is not known where they belong: {mended.rescued}")
    if result.repair is None:
        console.say("The game was updated meanwhile: see 'rellum check'.")
        raise typer.Exit(1)
    if not result.repair.done:
        console.say("Other findings of 'rellum check' were left as they are.")
        raise typer.Exit(1)
    _tell(result.repair, damaged=True, everything=False)
    if mended.lost != 0 or mended.left or mended.unknown or mended.rescued:
        raise typer.Exit(1)


def _restore(
    paths: tuple[str, ...],
    mod: str,
    pack: str,
    ask: Confirm,
    source: str,
    even_if_running: bool,
) -> RestoreResult:
    from rellum.core.actions.mend import restore as actions

    request = request_of(pack, shelf=True, even_if_running=even_if_running)
    if mod:
        return actions.restore_mod(request, mod, ask, source)
    if paths:
        return actions.restore_paths(request, paths, ask, source)
    return actions.restore_all(request, ask, source=source)


def _asker(yes: bool) -> Confirm:
    def ask(restoration: Restoration) -> bool:
        if not yes:
            from rellum.cli import render

            render.plan_lines(restoration.plan, every=False)
            console.say(render.plan_summary(restoration.plan, restoration.space))
        return console.confirm("Restore this?", yes=yes)

    return ask


def _tell_rest(restoration: Restoration, *, everything: bool, lays_again: bool) -> None:
    """Say what stays as it is, and what the next apply would do."""
    from rellum.cli import render
    from rellum.core.values.paths import shown

    plan = restoration.plan
    render.tell_left_alone(plan.left_alone, "is not as it should be")
    for path, key in restoration.kept_keys:
        console.say(f"{shown(path)}: {key} was changed after a mod had set it, and stays.")
    foreign = console.count_text(len(restoration.foreign), "foreign file")
    render.tell_paths(restoration.foreign, f"{foreign} left alone:")
    yours = console.count_text(len(restoration.yours), "file")
    are = "is" if len(restoration.yours) == 1 else "are"
    render.tell_paths(restoration.yours, f"{yours} {are} your own or changed by you, left alone:")
    written = console.count_text(len(restoration.written_by_game), "file")
    render.tell_paths(
        restoration.written_by_game, f"{written} that the game writes itself, left alone:"
    )
    if everything and not plan.left_alone:
        stays = restoration.foreign or restoration.yours or restoration.written_by_game
        apart = ", apart from these," if stays else ""
        console.say(f"The game folder is as it was adopted{apart} and free of this pack's marker.")
    if plan.visible and lays_again:
        console.say("The line-up is unchanged: the next 'rellum apply' installs it again.")
