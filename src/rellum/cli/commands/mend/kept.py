"""``rellum kept``."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Annotated, Any

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.core.values.owners import FOREIGN

if TYPE_CHECKING:
    from rellum.core.actions.mend.kept import KeptCopy
    from rellum.core.actions.mend.sweep import Sweep

_MOST_NUMBERS = 100_000


def kept(
    what: Annotated[
        str,
        typer.Argument(metavar="[list|back|out|drop]", help="What to do with kept copies."),
    ] = "list",
    numbers: Annotated[
        list[str] | None,
        typer.Argument(metavar="[NUMBER]...", help="Numbers from the list: 7, or 3-7."),
    ] = None,
    to: Annotated[
        str, typer.Option("--to", metavar="FOLDER", help="out: the folder to write to.")
    ] = "",
    every: Annotated[bool, typer.Option("--all", help="List every copy.")] = False,
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """List kept copies, bring them back, or delete them.

    A file of yours that was in the way, or that went with a mod, is kept as a copy. 'back' brings it to its
    old place (what is there now is kept first), 'out' writes it elsewhere, 'drop' deletes the copy.
    """
    from rellum.core.actions.mend import kept as actions
    from rellum.core.values.paths import shown, shown_file

    if what not in ("list", "back", "out", "drop"):
        raise console.BadCall(f"'rellum kept {what}': it is list, back, out or drop")
    if (what == "list") == bool(numbers):
        raise console.BadCall("name the copies by number with back, out and drop, and only there")
    if (what == "out") != bool(to):
        raise console.BadCall("--to FOLDER goes with 'rellum kept out', and only there")
    chosen = tuple(number for each in numbers or () for number in _numbers(each))
    if what == "list":
        _list(pack, every=every, as_json=as_json)
    elif what == "back":
        back = actions.bring_back(request_of(pack, even_if_running=even_if_running), chosen)
        _tell("Back", [shown(each.path) for each in back])
    elif what == "out":
        _tell("Written", list(map(shown_file, actions.copy_out(request_of(pack), chosen, to))))
    else:
        question = f"Delete {console.count_text(len(chosen), 'kept copy', 'kept copies')} for good?"
        if not console.confirm(question, yes=yes, what="this deletes kept copies"):
            console.say("Nothing was changed.")
            raise typer.Exit(1)
        gone = actions.let_go(request_of(pack), chosen)
        _tell("Deleted", [f"the copy of {shown(each.path)}, no. {each.number}" for each in gone])


def _tell(word: str, lines: list[str]) -> None:
    from rellum.cli.render import MOST_LINES

    for line in lines[:MOST_LINES]:
        console.say(f"{word}: {line}")
    if len(lines) > MOST_LINES:
        console.say(f"… and {len(lines) - MOST_LINES:,} more")


def _numbers(text: str) -> range:
    """Return the numbers that ``7`` or ``3-7`` means. Raises BadCall."""
    found = re.fullmatch(r"([0-9]{1,9})(?:-([0-9]{1,9}))?", text)
    first, last = (int(found[1]), int(found[2] or found[1])) if found else (0, 0)
    if not found or not 0 <= last - first < _MOST_NUMBERS:
        raise console.BadCall(f"{text!r} is no number of a copy; write 7, or 3-7")
    return range(first, last + 1)


def _list(pack: str, *, every: bool, as_json: bool) -> None:
    from rellum.cli.render import MOST_LINES
    from rellum.core.actions.mend.kept import list_kept
    from rellum.core.actions.mend.sweep import list_sweeps

    copies, sweeps = list_kept(request_of(pack)), list_sweeps(request_of(pack))
    if as_json:
        document = [_document(each) for each in copies]
        console.say_json({"kept": document, "swept": [_sweep_document(each) for each in sweeps]})
        return
    if copies:
        if every or len(copies) <= MOST_LINES:
            _table(copies)
        else:
            _show_grouped(copies)
        console.say(
            "'rellum kept back NUMBER' brings one back; 'rellum kept drop NUMBER' deletes it."
        )
    else:
        console.say("No copies are kept.")
    for each in sweeps:
        files = console.count_text(len(each.files), "file")
        console.say(f"Swept {each.name}: {files}; 'rellum sweep --back \"{each.name}\"'")


def _table(copies: list[KeptCopy]) -> None:
    from rellum.core.values.paths import shown

    rows = [
        (
            str(each.kept.number),
            _moment(each.kept.kept_at),
            console.bytes_text(each.kept.size) if each.is_there else "gone",
            shown(each.kept.path),
            _why(each),
        )
        for each in copies
    ]
    console.table(("no.", "kept (UTC)", "size", "file", "why"), rows, right=(0, 2))


def _show_grouped(copies: list[KeptCopy]) -> None:
    """Show the copies of each change in one line, the newest change first."""
    from rellum.core.values.paths import shown

    groups: dict[tuple[str, str], list[KeptCopy]] = {}
    for each in copies:
        groups.setdefault((each.kept.kept_at, _why(each)), []).append(each)
    rows = []
    for (moment, why), members in groups.items():
        numbers = [each.kept.number for each in members]
        first = shown(min(each.kept.path for each in members))
        files = first if len(members) == 1 else f"{len(members):,} files, e.g. {first}"
        size = console.bytes_text(sum(each.kept.size for each in members))
        rows.append((_ranges(numbers), _moment(moment), size, files, why))
    console.table(("no.", "kept (UTC)", "size", "files", "why"), rows, right=(2,))
    console.say("'rellum kept --all' lists each of them.")


def _ranges(numbers: list[int]) -> str:
    """Return numbers as text, those in a row from the first to the last."""
    runs: list[list[int]] = []
    for number in sorted(numbers):
        if runs and runs[-1][-1] == number - 1:
            runs[-1][1:] = [number]
        else:
            runs.append([number])
    more = " …" if len(runs) > 3 else ""
    return " ".join("-".join(map(str, run)) for run in runs[:3]) + more


def _moment(text: str) -> str:
    return text.replace("T", " ").removesuffix("Z")


def _why(copy: KeptCopy) -> str:
    """Say whose path it was and why it was kept."""
    kept = copy.kept
    if kept.aside_for:
        return f"yours; comes back with {kept.aside_for}"
    by = f"before '{kept.action}'" if kept.action else "by an older Rellum"
    if kept.owner is FOREIGN:
        return f"yours; {by}"
    whose = f"{kept.owner}, " if kept.owner else ""
    return f"{whose}changed; {by}"


def _document(copy: KeptCopy) -> dict[str, Any]:
    from rellum.core.values.paths import shown

    kept = copy.kept
    return {
        "number": kept.number,
        "path": shown(kept.path),
        "bytes": kept.size,
        "blake3": kept.digest,
        "kept_at": kept.kept_at,
        "owner": str(kept.owner) if kept.owner else None,
        "comes_back_with": kept.aside_for or None,
        "kept_by": kept.action or None,
        "is_there": copy.is_there,
    }


def _sweep_document(sweep: Sweep) -> dict[str, Any]:
    from rellum.core.values.paths import shown

    return {"name": sweep.name, "folder": sweep.folder, "files": list(map(shown, sweep.files))}
