"""What ``rellum describe`` shows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import typer

from rellum.cli import console
from rellum.core.values.paths import shown_file

if TYPE_CHECKING:
    from rellum.cli.documents.gather import (
        DescribeDocument,
        DescribedOneDocument,
        DescribeSavedDocument,
    )
    from rellum.core.actions.gather.describe import EachOutcome
    from rellum.core.describing.card_files import Saved
    from rellum.core.describing.card_text import Described


def show(described: Described, text: str, to: str, *, as_json: bool) -> None:
    """Show a draft, or where it was written."""
    if as_json:
        console.say_json(document(described, text))
    elif to:
        lines = console.count_text(described.marks, "line")
        console.say(f"{to} is written; {lines} to fill in.")
    else:
        console.say_page(text)


def write_new(to: str, text: str) -> None:
    """Write a draft into a new file; nothing where none is named. Raises OSError."""
    if to:
        with open(to, "x", encoding="utf-8", newline="\n") as file:
            file.write(text)


def ask_version(path: str) -> str:
    """Let the user say the version of a download; an empty text where nobody is there or knows."""
    console.clear_progress()
    return console.ask(f"{shown_file(path)}: which version is it? (Enter: not known)")


def show_saved(saved: Saved, *, as_json: bool) -> None:
    """Say which card has a release now."""
    if as_json:
        console.say_json(saved_document(saved))
        return
    what = "has it already" if saved.was_there else "is new" if saved.is_new else "has it now"
    console.say(f"{saved.mod} {saved.version}: {shown_file(saved.file)} {what}.")
    if saved.marks:
        lines = console.count_text(saved.marks, "line")
        console.say(f"{lines} in it marked 'FILL IN': decide them, then take the archive.")
    else:
        console.say("Next: 'rellum take' the archive.")


def saved_document(saved: Saved) -> DescribeSavedDocument:
    """Return where a release was written, for programs."""
    return {
        "mod": saved.mod,
        "version": saved.version,
        "card": saved.file,
        "is_new": saved.is_new,
        "was_there": saved.was_there,
        "open_line_count": saved.marks,
    }


def show_each(outcomes: Sequence[EachOutcome], folders: Sequence[str], *, as_json: bool) -> None:
    """Show what became of each download, and what is still to be decided. Raises typer.Exit."""
    import shlex

    refused = [each for each in outcomes if each.outcome == "refused"]
    if as_json:
        console.say_json({"downloads": [_each_document(each) for each in outcomes]})
    else:
        show_drafted(outcomes)
        where = " ".join(shlex.quote(each) for each in folders)
        if any(each.card for each in outcomes):
            console.say(f"Next: rellum take {where} --each")
        elif not outcomes:
            console.say(f"There are no downloads in {where}.")
    if refused:
        raise typer.Exit(1)


def show_drafted(outcomes: Sequence[EachOutcome]) -> None:
    """Show which cards were written, what was refused, and what is still to be decided."""
    rows = [
        (each.outcome, each.release or "-", f"{each.marks}" if each.marks else "-", each.path)
        for each in outcomes
        if each.outcome != "refused"
    ]
    if rows:
        console.table(("outcome", "release", "to decide", "file"), rows, right=(2,))
    for each in outcomes:
        if each.outcome == "refused":
            console.warn(f"{each.reason}" + (f" ({each.hint})" if each.hint else ""))
    for mod in dict.fromkeys(mod for each in outcomes for mod in each.lacking):
        needing = dict.fromkeys(each.release for each in outcomes if mod in each.lacking)
        console.say(f"No card describes {mod}, which is needed by {', '.join(needing)}")
    for card in sorted({each.card for each in outcomes if each.marks}):
        console.say(f"Decide what is marked 'FILL IN' in {shown_file(card)}")


def _each_document(each: EachOutcome) -> DescribedOneDocument:
    return {
        "path": each.path,
        "outcome": each.outcome,
        "release": each.release or None,
        "card": each.card or None,
        "open_line_count": each.marks,
        "needs_without_card": list(each.lacking),
        "reason": each.reason or None,
    }


def document(described: Described, text: str) -> DescribeDocument:
    naming, shape = described.naming, described.shape
    return {
        "id": naming.id.value or None,
        "name": naming.name.value or None,
        "version": naming.version.value or None,
        "is_patch": naming.is_patch,
        "known_as": described.known_as or None,
        "has_card": described.has_card,
        "wrapper": shape.wrapper or None,
        "files": [{"file": f.name, "bytes": f.size, "sha256": f.sha256} for f in described.files],
        "places": [
            {
                "take": rule.take,
                "to": rule.to,
                "reason": rule.reason,
                "is_sure": rule.is_sure,
                "replaces": list(rule.replaces),
            }
            for rule in shape.rules
        ],
        "alternatives": [
            {"option": a.group, "above": a.above, "folders": list(a.names)}
            for a in shape.alternatives
        ],
        "left_out": list(shape.left_out),
        "says_itself": [
            {
                "file": own.file,
                "id": own.said_id,
                "version": own.version or None,
                "game": own.game or None,
                "needs": [{"id": each.id, "range": each.range} for each in own.needs],
                "not_understood": list(own.unread),
            }
            for own in described.own
        ],
        "card": text,
    }
