"""What ``rellum conflicts`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.core.values.paths import shown

if TYPE_CHECKING:
    from rellum.cli.documents.change import ConflictsDocument
    from rellum.core.layers.contested_paths import Conflict, Conflicts


def show(found: Conflicts, *, every: bool) -> None:
    from rellum.cli.views.plans import MOST_LINES

    if not found.conflicts:
        files = console.count_text(sum(each.brings for each in found.shares), "file")
        console.say(f"No conflicts: each of the {files} is brought by one mod only.")
        return
    differing = [each for each in found.conflicts if not each.is_same]
    same = len(found.conflicts) - len(differing)
    listed = differing if every else differing[:MOST_LINES]
    if listed:
        rows = [(shown(each.path), each.winner, _losers(each), _how(each)) for each in listed]
        console.table(("file", "wins", "hides", "by"), rows)
    if len(differing) > len(listed):
        console.say(f"… and {len(differing) - len(listed):,} more (--full lists every file)")
    for share in found.shares:
        if share.hidden and share.hidden == share.brings:
            files = console.count_text(share.hidden, "file")
            console.warn(f"{share.mod} is fully hidden: other mods win all of its {files}")
    if listed:
        console.say()
    count = console.count_text(len(differing), "file")
    text = f"{count} brought by several mods with different content"
    console.say(text + (f", {same:,} with the same." if same else "."))


def _losers(conflict: Conflict) -> str:
    return ", ".join(mod for mod in conflict.mods if mod != conflict.winner)


def _how(conflict: Conflict) -> str:
    how = "the pack's choice" if conflict.is_chosen else "load order"
    return how + (f"; edited by {', '.join(conflict.edited_by)}" if conflict.edited_by else "")


def document(found: Conflicts) -> ConflictsDocument:
    return {
        "conflicts": [
            {
                "path": str(each.path),
                "mods": list(each.mods),
                "winner": each.winner,
                "decided_by": "choice" if each.is_chosen else "load-order",
                "same_content": each.is_same,
                "edited_by": list(each.edited_by),
            }
            for each in found.conflicts
        ],
        "mods": [
            {"mod": each.mod, "file_count": each.brings, "hidden_count": each.hidden}
            for each in found.shares
        ],
    }
