"""What ``rellum restore`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.mend import MendedDocument, RestoreDocument
    from rellum.core.actions.mend.interrupted import Mended, MendResult
    from rellum.core.actions.mend.restore import Confirm, Restoration, RestoreResult


def asker(yes: bool) -> Confirm:
    def ask(restoration: Restoration) -> bool:
        if not yes:
            from rellum.cli.views import plans

            plans.plan_lines(restoration.plan, every=False)
            console.say(plans.plan_summary(restoration.plan, restoration.space))
        return console.confirm("Restore this?", yes=yes)

    return ask


def tell_rest(restoration: Restoration, *, everything: bool, lays_again: bool) -> None:
    """Say what stays as it is, and what the next apply would do."""
    from rellum.cli.views import plans
    from rellum.core.values.paths import shown

    plan = restoration.plan
    plans.tell_left_alone(plan.left_alone, "is not as it should be")
    for path, key in restoration.kept_keys:
        console.say(f"{shown(path)}: {key} was changed after a mod had set it, and stays.")
    foreign = console.count_text(len(restoration.foreign), "foreign file")
    plans.tell_paths(restoration.foreign, f"{foreign} left alone:")
    yours = console.count_text(len(restoration.yours), "file")
    are = "is" if len(restoration.yours) == 1 else "are"
    plans.tell_paths(restoration.yours, f"{yours} {are} your own or changed by you, left alone:")
    written = console.count_text(len(restoration.written_by_game), "file")
    plans.tell_paths(
        restoration.written_by_game, f"{written} that the game writes itself, left alone:"
    )
    if everything and not plan.left_alone:
        stays = restoration.foreign or restoration.yours or restoration.written_by_game
        apart = ", apart from these" if stays else ""
        looked = "Byte for byte" if restoration.is_deep else "By size and time"
        console.say(f"{looked}, the game is as it was adopted{apart}, without this pack's marker.")
        if not restoration.is_deep:
            console.say("'rellum restore --all --deep' reads every byte.")
    if plan.visible and lays_again:
        console.say("The line-up is unchanged: the next 'rellum apply' installs it again.")


def show(restoration: Restoration, *, damaged: bool, everything: bool) -> None:
    """Say what was restored, and what stays as it is."""
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
    elif plan.new_folders:
        console.say(f"Restored: {console.count_text(len(plan.new_folders), 'folder')}.")
    elif not plan.left_alone:
        console.say(
            "Nothing to do: nothing is damaged."
            if damaged
            else "Nothing to do: that is vanilla already."
        )
    if any(each.keep for each in plan.operations):
        from rellum.cli.views.plans import tell_kept

        tell_kept(plan)
    tell_rest(restoration, everything=everything, lays_again=not damaged)


def show_mended(mended: Mended) -> None:
    """Say what became of an interrupted change, and what cannot be told."""
    from rellum.cli.views import plans
    from rellum.core.values.paths import shown

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
        plans.tell_paths(
            mended.unknown, f"It cannot be told whether {count} came by that change; left alone:"
        )
    if mended.rescued:
        count = console.count_text(mended.rescued_files, "copy", "copies")
        console.warn(f"{count} of which it is not known where they belong: {mended.rescued}")


def document(result: RestoreResult) -> RestoreDocument:
    """Return what was restored, for programs."""
    from rellum.cli.documents.shared import change_document

    return {
        **change_document(result.restoration.plan, done=result.done),
        "foreign": list(result.restoration.foreign),
        "yours": list(result.restoration.yours),
    }


def mended_document(result: MendResult) -> MendedDocument:
    """Return what became of an interrupted change, for programs."""
    mended, repair = result.mended, result.repair
    return {
        "done": mended is not None,
        "lost_count": mended.lost if mended else 0,
        "left": list(mended.left) if mended else [],
        "unknown": list(mended.unknown) if mended else [],
        "rescued_to": (mended.rescued or None) if mended else None,
        "repair": document(repair) if repair else None,
    }
