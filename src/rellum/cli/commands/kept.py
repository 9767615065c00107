"""``rellum kept``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from rellum.cli import console, options

if TYPE_CHECKING:
    from rellum.core.actions.kept import KeptCopy
    from rellum.core.actions.sweep import Sweep


def kept(
    what: Annotated[
        str,
        typer.Argument(metavar="[list|back|out|drop]", help="List copies, or do that with some."),
    ] = "list",
    numbers: Annotated[
        list[int] | None, typer.Argument(metavar="[NUMBER]...", help="Which, as the list has them.")
    ] = None,
    to: Annotated[
        str, typer.Option("--to", metavar="FOLDER", help="out: write the copies into this folder.")
    ] = "",
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """List your files that Rellum keeps, bring one back, or delete it.

    A file of yours that was in the way, or that went with a mod, is kept as a copy. 'back' brings it to its
    old place (what is there now is kept first), 'out' writes it elsewhere, 'drop' deletes the copy.
    """
    from rellum.cli.recovery import tell_recovered
    from rellum.core.actions import kept as actions
    from rellum.core.paths import shown, shown_file

    if what not in ("list", "back", "out", "drop"):
        raise console.BadCall(f"'rellum kept {what}': it is list, back, out or drop")
    if (what == "list") == bool(numbers):
        raise console.BadCall("name the copies by number with back, out and drop, and only there")
    if (what == "out") != bool(to):
        raise console.BadCall("--to FOLDER goes with 'rellum kept out', and only there")
    chosen = tuple(numbers or ())
    if what == "list":
        _list(pack, as_json=as_json)
    elif what == "back":
        for each in actions.bring_back(
            pack, chosen, tell_recovered, even_if_running=even_if_running
        ):
            console.say(f"Back: {shown(each.path)}")
    elif what == "out":
        for file in actions.copy_out(pack, chosen, to, tell_recovered):
            console.say(f"Written: {shown_file(file)}")
    else:
        question = f"Delete {console.count_text(len(chosen), 'kept copy', 'kept copies')} for good?"
        if not console.confirm(question, yes=yes, what="this deletes kept copies"):
            console.say("Nothing was changed.")
            raise typer.Exit(1)
        for each in actions.let_go(pack, chosen, tell_recovered):
            console.say(f"Deleted: the copy of {shown(each.path)}, no. {each.number}")


def _list(pack: str, *, as_json: bool) -> None:
    from rellum.cli.recovery import tell_recovered
    from rellum.core.actions.kept import list_kept
    from rellum.core.actions.sweep import list_sweeps

    copies, sweeps = list_kept(pack, tell_recovered), list_sweeps(pack, tell_recovered)
    if as_json:
        document = [_document(each) for each in copies]
        console.say_json({"kept": document, "swept": [_sweep_document(each) for each in sweeps]})
        return
    if copies:
        _table(copies)
        console.say(
            "'rellum kept back NUMBER' brings one back; 'rellum kept drop NUMBER' deletes it."
        )
    else:
        console.say("No copies are kept.")
    for each in sweeps:
        files = console.count_text(len(each.files), "file")
        console.say(f"Swept {each.name}: {files}; 'rellum sweep --back \"{each.name}\"'")


def _table(copies: list[KeptCopy]) -> None:
    from rellum.core.paths import shown

    rows = [
        (
            str(each.kept.number),
            each.kept.kept_at.replace("T", " ").removesuffix("Z"),
            console.bytes_text(each.kept.size) if each.is_there else "gone",
            shown(each.kept.path),
            _why(each),
        )
        for each in copies
    ]
    console.table(("no.", "kept (UTC)", "size", "file", "why"), rows, right=(0, 2))


def _why(copy: KeptCopy) -> str:
    """Say whose path it was and why it was kept."""
    kept = copy.kept
    if kept.aside_for:
        return f"yours; comes back with {kept.aside_for}"
    by = f"before '{kept.action}'" if kept.action else "by an older Rellum"
    whose = {"foreign": "yours", "vanilla": "vanilla, changed", "": "changed"}
    return f"{whose.get(kept.owner, f'{kept.owner}, changed')}; {by}"


def _document(copy: KeptCopy) -> dict[str, Any]:
    from rellum.core.paths import shown

    kept = copy.kept
    return {
        "number": kept.number,
        "path": shown(kept.path),
        "bytes": kept.size,
        "blake3": kept.digest,
        "kept_at": kept.kept_at,
        "owner": kept.owner or None,
        "comes_back_with": kept.aside_for or None,
        "kept_by": kept.action or None,
        "is_there": copy.is_there,
    }


def _sweep_document(sweep: Sweep) -> dict[str, Any]:
    from rellum.core.paths import shown

    return {"name": sweep.name, "folder": sweep.folder, "files": list(map(shown, sweep.files))}
