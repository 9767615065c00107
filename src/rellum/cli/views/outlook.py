"""What ``rellum outlook`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.match import OutlookDocument
    from rellum.core.solving.game_versions import Cell, Outlook, VersionOutlook


SIGNS = {
    "ready": "ready",
    "tried": "tried",
    "other": "other",
    "back": "BACK",
    "gone": "-",
    "unknown": "?",
}


def show(result: Outlook) -> None:
    if not result.mods:
        console.say("The pack wants no mods yet. Start with 'rellum want MOD'.")
        return
    versions = result.versions
    headings = ("mod", *(_heading(each) for each in versions))
    rows = []
    for at, mod in enumerate(result.mods):
        name = mod if mod in result.wanted else f"  {mod}"
        rows.append((name, *(_cell_text(each.cells[at]) for each in versions)))
    console.table(headings, rows)
    console.say()
    console.say(
        "ready: as in the line-up   other: another release of it, named   tried: by a trial"
    )
    console.say("BACK: holds the pack back, would have to go   -: not needed there")
    for each in versions:
        console.say()
        _tell_version(each)


def _heading(version: VersionOutlook) -> str:
    return f"{version.game} (now)" if version.is_now else version.game.text


def _cell_text(cell: Cell) -> str:
    sign = SIGNS[cell.status]
    if cell.status in ("other", "tried") and cell.release:
        return f"{sign} {cell.release.label}"
    return sign


def _tell_version(version: VersionOutlook) -> None:
    from rellum.core.composing.line_up import with_place

    name = console.styled(f"game {version.game}", "bold")
    if not version.is_worked_out:
        console.say(f"{name}: not worked out: to find a line-up for it takes too long")
    elif version.give_up is None:
        console.say(f"{name}: no line-up, and giving up a few wants does not bring one")
    elif not version.give_up:
        others = sum(each.status == "other" for each in version.cells)
        what = f"with {console.count_text(others, 'other release')}" if others else "unchanged"
        console.say(f"{name}: all wants fit, {what}")
    else:
        console.say(f"{name}: give up {', '.join(each.mod for each in version.give_up)}")
        for each in version.give_up:
            for statement in each.statements:
                console.say_indented(with_place(statement))


def _rows(result: Outlook) -> list[dict[str, object]]:
    return [
        {
            "game": version.game.text,
            "mod": cell.mod,
            "wanted": cell.mod in result.wanted,
            "status": cell.status,
            "version": cell.release.version if cell.release else None,
            "build": cell.release.build or None if cell.release else None,
            "trial": str(cell.trial) if cell.trial else None,
        }
        for version in result.versions
        for cell in version.cells
    ]


def print_csv(result: Outlook) -> None:
    rows = _rows(result)
    names = list(rows[0]) if rows else []
    console.say_csv([names, *([str(row[name]) for name in names] for row in rows)])


def document(result: Outlook) -> OutlookDocument:
    from rellum.cli.documents.shared import statement_document

    return {
        "versions": [
            {
                "game_version": each.game.text,
                "is_now": each.is_now,
                "is_worked_out": each.is_worked_out,
                "has_line_up": each.give_up == (),
                "give_up": None
                if each.give_up is None
                else [
                    {
                        "mod": one.mod,
                        "statements": [statement_document(said) for said in one.statements],
                    }
                    for one in each.give_up
                ],
            }
            for each in result.versions
        ],
        "cells": [
            {
                "game_version": version.game.text,
                "mod": cell.mod,
                "is_wanted": cell.mod in result.wanted,
                "status": cell.status,
                "release": {
                    "mod": cell.release.mod,
                    "version": cell.release.version,
                    "build": cell.release.build or None,
                }
                if cell.release
                else None,
                "trial": str(cell.trial) if cell.trial else None,
            }
            for version in result.versions
            for cell in version.cells
        ],
    }
