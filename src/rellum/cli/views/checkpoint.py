"""What ``rellum checkpoint`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.mend import CheckpointDocument
    from rellum.core.pack.checkpoints import Checkpoint


def pasted(name: str) -> str:
    """Return a name as a shell takes it."""
    import shlex

    return shlex.quote(name) if name else ""


def show(found: list[Checkpoint]) -> None:
    if not found:
        console.say("No checkpoints yet. Each change of the game makes one.")
        return
    rows = []
    for each in found:
        then = f"{each.ended_by}, {console.count_text(each.files, 'file')}"
        rows.append(
            (
                str(each.number),
                console.moment_text(each.made_at),
                each.version,
                each.name or "-",
                "good" if each.good else "",
                then if each.ended_by else "nothing has changed since",
            )
        )
    console.table(("no.", "made (UTC)", "game", "name", "", "what came after"), rows, right=(0,))


def document(each: Checkpoint) -> CheckpointDocument:
    return {
        "number": each.number,
        "name": each.name or None,
        "is_good": each.good,
        "made_at": each.made_at,
        "game_version": each.version,
        "ended_by": each.ended_by or None,
        "file_count": each.files,
    }
