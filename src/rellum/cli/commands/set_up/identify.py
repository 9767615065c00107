"""``rellum identify``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of

if TYPE_CHECKING:
    from rellum.core.actions.set_up.identify import Identified
    from rellum.core.folder.baselines import Match


def identify(
    folder: Annotated[str, typer.Argument(metavar="FOLDER", help="A game's folder.")],
    write: Annotated[
        bool,
        typer.Option("--write", help="Write its hashes to the catalog as a known baseline."),
    ] = False,
    catalog: options.Catalog = None,
    sheet: options.Sheet = "",
    every: options.All = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Identify the game in a folder, and compare its files with known versions.

    Version, edition and expansions, by the game sheet's rules and by known baselines. Exit status 1 if
    its version cannot be told, or it is no known vanilla game, whole.
    """
    from rellum.core.actions.set_up import identify as actions

    with console.progress() as listen:
        found = actions.identify_folder(
            request_of(pack, listen=listen), folder, catalogs=tuple(catalog or ()), sheet_id=sheet
        )
        file, is_new = actions.write_baseline(found, listen) if write else ("", False)
    if as_json:
        console.say_json({**_document(found), **({"written": file} if file else {})})
    else:
        _show(found, every=every)
        if file:
            from rellum.core.values.paths import shown_file

            console.say(f"Written: {shown_file(file)}")
            if is_new:
                console.say(f"The game sheet names it: {shown_file(found.sheet.source.file)}")
    nearest = found.nearest
    if not write and (
        found.identity is None or (found.matches and not (nearest and nearest.is_whole))
    ):
        raise typer.Exit(1)


_MOST_FILES = 10


def _show(found: Identified, *, every: bool) -> None:
    from rellum.cli import render
    from rellum.core.values.paths import shown

    if found.identity:
        console.say(console.styled(render.game_line(found.identity), "bold"))
    else:
        console.say(console.styled(f"{found.sheet.name}, version unknown: no rule matches", "bold"))
    files = console.count_text(found.files, "file")
    evidence = found.identity.evidence if found.identity else ()
    console.facts(
        [
            ("folder", found.folder),
            ("holds", f"{files}, {console.bytes_text(found.bytes)}"),
            *(("because", line) for line in evidence),
        ]
    )
    if not found.matches:
        console.say(
            "There is no known baseline to compare with. 'rellum identify FOLDER --write' makes one."
        )
        return
    console.say()
    rows = [
        (
            str(each.known),
            f"{each.matching:,}",
            f"{len(each.differing):,}",
            f"{len(each.missing):,}",
            f"{len(each.beside):,}",
        )
        for each in found.matches
    ]
    console.table(("known version", "matching", "differ", "missing", "extra"), rows, (1, 2, 3, 4))
    nearest = found.nearest
    if nearest and nearest.is_whole:
        console.say(f"\nIt is {nearest.known}, whole.")
    elif nearest:
        console.say(f"\nNearest to {nearest.known}; differences:")
        wrong = [(path, "differs") for path in nearest.differing]
        wrong += [(path, "missing") for path in nearest.missing]
        wrong += [(path, "extra") for path in nearest.beside]
        for path, what in wrong if every else wrong[:_MOST_FILES]:
            console.say(f"  {what:8} {console.one_line(shown(path))}")
        if len(wrong) > _MOST_FILES and not every:
            console.say(f"  … and {len(wrong) - _MOST_FILES:,} more (--all lists every file)")
    else:
        console.say("\nIt matches none of these.")


def _document(found: Identified) -> dict[str, Any]:
    identity, nearest = found.identity, found.nearest
    return {
        "folder": found.folder,
        "sheet": found.sheet.id,
        "version": identity.version.text if identity else None,
        "edition": identity.edition if identity else None,
        "expansions": list(identity.expansions) if identity else [],
        "evidence": list(identity.evidence) if identity else [],
        "files": found.files,
        "bytes": found.bytes,
        "baselines": [_match_document(each) for each in found.matches],
        "nearest": _match_document(nearest) if nearest else None,
    }


def _match_document(match: Match) -> dict[str, Any]:
    from rellum.core.values.paths import shown

    return {
        "version": match.known.version.text,
        "edition": match.known.edition,
        "expansions": list(match.known.expansions),
        "matching": match.matching,
        "differing": [shown(path) for path in match.differing],
        "missing": [shown(path) for path in match.missing],
        "beside": [shown(path) for path in match.beside],
    }
