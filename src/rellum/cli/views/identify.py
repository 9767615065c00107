"""What ``rellum identify`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.set_up import BaselineDocument, IdentifyDocument
    from rellum.core.actions.set_up.identify import Identified
    from rellum.core.folder.baselines import Match


_MOST_FILES = 10


def show(found: Identified, *, every: bool) -> None:
    from rellum.cli.views import plans
    from rellum.core.values.paths import shown

    if found.identity:
        console.say(console.styled(plans.game_line(found.identity), "bold"))
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
            console.say(f"  … and {len(wrong) - _MOST_FILES:,} more (--full lists every file)")
    else:
        console.say("\nIt matches none of these.")


def document(found: Identified, written: str) -> IdentifyDocument:
    from rellum.cli.documents.shared import game_document

    identity, nearest = found.identity, found.nearest
    return {
        "folder": found.folder,
        "game": game_document(identity) if identity else None,
        "evidence": list(identity.evidence) if identity else [],
        "file_count": found.files,
        "bytes": found.bytes,
        "baselines": [_match_document(each) for each in found.matches],
        "nearest": _match_document(nearest) if nearest else None,
        "written": written or None,
    }


def _match_document(match: Match) -> BaselineDocument:
    return {
        "version": match.known.version.text,
        "edition": match.known.edition,
        "expansions": list(match.known.expansions),
        "matching_count": match.matching,
        "differing": list(match.differing),
        "missing": list(match.missing),
        "beside": list(match.beside),
    }
