"""What ``rellum rewind`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.mend import RewindDocument
    from rellum.core.actions.mend.rewind import Rewinding, RewindResult
    from rellum.core.pack.checkpoints import Checkpoint


def tell_nothing_to_do(rewinding: Rewinding) -> None:
    told = _name_of(rewinding.checkpoint)
    if rewinding.plan.left_alone:
        console.say("Nothing was changed: none of it can be fixed now.")
    elif rewinding.stays or rewinding.newer or rewinding.foreign:
        console.say(
            f"Nothing to do: by size and time, all is as it was at {told}, apart from these."
        )
    else:
        console.say(f"Nothing to do: by size and time, all is as it was at {told}.")


def tell_rest(rewinding: Rewinding) -> None:
    """Name what is not as it was then, and stays as it is."""
    from rellum.cli.views import plans

    plans.tell_paths(
        rewinding.stays,
        "Your own files stay as they are now (--with-carried takes them back, too):",
    )
    plans.tell_paths(rewinding.newer, "Settings that are newer than the checkpoint stay:")
    plans.tell_paths(rewinding.foreign, "Foreign files stay where they are:")


def show(rewinding: Rewinding, *, files: bool, every: bool) -> None:
    from rellum.cli.views import plans

    console.say(f"Back to {_name_of(rewinding.checkpoint)}:")
    if rewinding.plan.visible:
        if files:
            plans.plan_lines(rewinding.plan, every=every)
        console.say(plans.plan_summary(rewinding.plan, rewinding.space))
    for text in rewinding.texts:
        console.say(f"{text} becomes what it was then.")
    for each in rewinding.broken_saves:
        from rellum.cli.views.preview import saves_warning

        console.warn(saves_warning(each))


def _name_of(checkpoint: Checkpoint) -> str:
    name = f" '{checkpoint.name}'" if checkpoint.name else ""
    before = f", before '{checkpoint.ended_by}'" if checkpoint.ended_by else ""
    moment = console.moment_text(checkpoint.made_at)
    return f"checkpoint {checkpoint.number}{name} of {moment}{before}"


def document(result: RewindResult) -> RewindDocument:
    """Return what going back did, for programs."""
    from rellum.cli.documents.shared import change_document
    from rellum.cli.views.checkpoint import document as checkpoint_document

    rewinding = result.rewinding
    return {
        **change_document(rewinding.plan, done=result.done),
        "checkpoint": checkpoint_document(rewinding.checkpoint),
        "texts": list(rewinding.texts) if result.done else [],
    }
