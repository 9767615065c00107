"""``rellum check``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from rellum.cli import console, options

if TYPE_CHECKING:
    from rellum.core.folder.model import Drift, Finding


def check(
    deep: Annotated[
        bool, typer.Option("--deep", help="Hash every file, also where size and time are as left.")
    ] = False,
    every: options.All = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Tell whether the game folder is as Rellum left it.

    Names what is changed, missing or foreign, and whose it is. Exit status 1 if anything is.
    """
    from rellum.cli.recovery import tell_recovered
    from rellum.core.actions.check import check as action

    with console.progress() as listen:
        drift = action(pack, tell_recovered, deep=deep, listen=listen)
    if as_json:
        console.say_json(_document(drift))
    elif drift.findings:
        _show(drift, every=every)
    else:
        hashed = f", {drift.files_hashed:,} hashed" if drift.files_hashed else ""
        console.say(f"All as left: {drift.files_seen:,} entries looked at{hashed}.")
        if drift.touched:
            files = console.count_text(len(drift.touched), "file")
            console.say(f"{files} with another time but the same content.")
    if drift.own_changes and not as_json:
        _show_own_changes(drift, every=every)
    if drift.findings:
        raise typer.Exit(1)


_MOST_MEMBERS = 5
"""How many members of a container are told unless all are asked for."""


def _show(drift: Drift, *, every: bool) -> None:
    from rellum.cli.render import MOST_LINES
    from rellum.core.paths import shown

    findings = drift.findings if every else drift.findings[:MOST_LINES]
    rows: list[tuple[str, str, str, str, str]] = []
    for each in findings:
        rows.append(
            (each.kind, shown(each.path), each.owner or "nobody", each.detail, _remedy(each))
        )
        members = each.members if every else each.members[:_MOST_MEMBERS]
        rows += [(member.kind, f"  !/{member.member}", "", "", "") for member in members]
        if len(each.members) > len(members):
            more = console.count_text(len(each.members) - len(members), "member")
            rows.append(("", f"  … {more} more", "", "", ""))
    console.table(("finding", "file", "whose", "what", "mend with"), rows)
    if len(drift.findings) > len(findings):
        console.say(f"… and {len(drift.findings) - len(findings):,} more (--all lists every one)")
    counts = {
        kind: sum(each.kind == kind for each in drift.findings)
        for kind in ("changed", "missing", "foreign")
    }
    told = ", ".join(f"{count:,} {kind}" for kind, count in counts.items() if count)
    console.say()
    console.say(f"{told}; {drift.files_seen:,} entries looked at.")


def _show_own_changes(drift: Drift, *, every: bool) -> None:
    from rellum.core.paths import shown

    files = console.count_text(len(drift.own_changes), "file")
    are = "is" if len(drift.own_changes) == 1 else "are"
    named = drift.own_changes if every else drift.own_changes[:_MOST_MEMBERS]
    more = " …" if len(named) < len(drift.own_changes) else ""
    console.say(f"{files} {are} yours to change (settings, presets and the like):")
    console.say(f"  {', '.join(map(shown, named))}{more}")


def _remedy(finding: Finding) -> str:
    from rellum.core.folder.content import RELLUM, VANILLA

    if finding.kind == "foreign":
        return "-"
    if finding.owner == RELLUM:
        return "apply"
    if finding.owner != VANILLA:
        return "apply, or restore"
    return "restore" if finding.has_original else "a clean copy of the game"


def _document(drift: Drift) -> dict[str, Any]:
    from rellum.core.paths import shown

    return {
        "findings": [
            {
                "path": shown(each.path),
                "finding": each.kind,
                "owner": each.owner or None,
                "detail": each.detail,
                "has_original": each.has_original,
                "members": [
                    {"member": member.member, "finding": member.kind} for member in each.members
                ],
            }
            for each in drift.findings
        ],
        "touched": [shown(path) for path in drift.touched],
        "own_changes": [shown(path) for path in drift.own_changes],
        "files_seen": drift.files_seen,
        "files_hashed": drift.files_hashed,
    }
