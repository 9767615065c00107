"""What ``rellum sweep`` shows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.mend import SweepDocument, SweptDocument
    from rellum.core.actions.mend.sweep import Sweep, Sweeping


_WHY = {
    "left-over": "left over from an older release",
    "foreign-shared": "foreign, in a place that mods share",
    "game-update": "came with an update of the game",
}


def show(sweeping: Sweeping, *, every: bool) -> None:
    from rellum.cli.views.plans import MOST_LINES
    from rellum.core.values.paths import shown

    findings = sweeping.findings if every else sweeping.findings[:MOST_LINES]
    rows = [(shown(each.path), each.detail, _WHY.get(each.cause, "foreign")) for each in findings]
    console.table(("file", "what", "why"), rows)
    if len(findings) < len(sweeping.findings):
        more = len(sweeping.findings) - len(findings)
        console.say(f"… and {more:,} more (--full lists every file)")


def document(sweep: Sweep) -> SweepDocument:
    """Return a sweep for programs."""
    return {
        "name": sweep.name,
        "folder": sweep.folder,
        "files": list(sweep.files),
    }


def show_list(sweeps: Sequence[Sweep]) -> None:
    """Show the sweeps that can be undone, with their files."""
    from rellum.core.values.paths import shown, shown_file

    if not sweeps:
        console.say("There are no sweeps to undo.")
    for each in sweeps:
        console.say(f"{each.name}: {console.count_text(len(each.files), 'file')}")
        console.say(f"  {shown_file(each.folder)}")
        for path in each.files[:20]:
            console.say(f"  {console.one_line(shown(path))}")


def swept_document(planned: Sweeping, *, done: bool) -> SweptDocument:
    """Return what was moved out, for programs."""
    return {
        "done": done,
        "folder": planned.folder if done and not planned.plan.is_empty else None,
        "files": [each.path for each in planned.plan.operations] if done else [],
        "left": [{"path": path, "reason": why} for path, why in planned.left],
    }
