"""What ``rellum backup`` shows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import typer

from rellum.cli import console
from rellum.core.values.paths import shown

if TYPE_CHECKING:
    from rellum.cli.documents.live import BackupDocument, BroughtBackDocument
    from rellum.core.actions.live.backup import BackupResult, Comparison
    from rellum.core.actions.live.bring_back import BringingBack, BroughtBack
    from rellum.core.pack.backup import Backup
    from rellum.core.values.content import Content
    from rellum.core.values.paths import PlacePath


def name_of(backup: Backup) -> str:
    """Return what sentences call a backup."""
    name = f" '{backup.name}'" if backup.name else ""
    return f"backup {backup.number}{name} of {console.moment_text(backup.made_at)}"


def document(backup: Backup) -> BackupDocument:
    """Return a backup for programs."""
    return {
        "number": backup.number,
        "name": backup.name or None,
        "made_at": backup.made_at,
        "made_before": backup.reason or None,
        "variant": backup.variant or None,
        "game_version": backup.game,
        "releases": list(backup.releases),
        "file_count": backup.files,
        "bytes": backup.bytes,
        "changed_count": backup.changed,
    }


def show_made(result: BackupResult, *, as_json: bool) -> None:
    made, backup = result.made, result.backup
    if as_json:
        console.say_json(
            {
                "backup": document(backup) if backup else None,
                "is_new": made.is_new,
                "in_use": list(made.in_use),
            }
        )
        return
    if backup is None:
        console.say("There is nothing to keep: the game sheet names no saves and no settings,")
        console.say("or there are none. 'carry' and the places 'saves' and 'settings' name them.")
        return
    files = f"{console.count_text(backup.files, 'file')}, {console.bytes_text(backup.bytes)}"
    if made.is_new:
        changed = console.count_text(len(made.changed), "file")
        console.say(f"Made {name_of(backup)}: {files}; {changed} new or changed.")
    else:
        console.say(f"Nothing has changed since {name_of(backup)}: {files}.")
    if made.in_use:
        console.warn(f"being written to, and not in it: {', '.join(map(shown, made.in_use[:5]))}")


def show_list(backups: Sequence[Backup], *, as_json: bool) -> None:
    if as_json:
        console.say_json({"backups": list(map(document, backups))})
        return
    if not backups:
        console.say("There is no backup yet. 'rellum backup' makes one.")
        return
    rows = [
        (
            str(each.number),
            each.name or "-",
            console.moment_text(each.made_at),
            each.game,
            each.variant or "-",
            f"{each.changed:,} of {each.files:,}",
            console.bytes_text(each.bytes),
            f"before {each.reason}" if each.reason else "asked for",
        )
        for each in backups
    ]
    headings = ("number", "name", "made", "game", "variant", "changed", "bytes", "why")
    console.table(headings, rows, right=(0, 5, 6))


def show_one(backup: Backup, files: Mapping[PlacePath, Content], *, as_json: bool) -> None:
    if as_json:
        listed = [
            {"path": path, "bytes": each.size, "blake3": each.digest}
            for path, each in files.items()
        ]
        console.say_json({"backup": document(backup), "files": listed})
        return
    console.say(f"{name_of(backup).capitalize()}, game {backup.game}:")
    rows = [(shown(path), console.bytes_text(each.size)) for path, each in files.items()]
    console.table(("file", "bytes"), rows, right=(1,))
    console.say(f"The line-up was: {', '.join(backup.releases) or 'vanilla'}.")


def show_comparison(found: Comparison, *, as_json: bool) -> None:
    if as_json:
        console.say_json(
            {
                "backup": document(found.backup),
                "other": document(found.other) if found.other else None,
                "new": list(found.came),
                "changed": list(found.changed),
                "gone": list(found.gone),
            }
        )
        return
    other = name_of(found.other) if found.other else "now"
    rows = [("new", shown(path)) for path in found.came]
    rows += [("changed", shown(path)) for path in found.changed]
    rows += [("gone", shown(path)) for path in found.gone]
    console.say(f"From {name_of(found.backup)} to {other}:")
    if rows:
        console.table(("what", "file"), rows)
    else:
        console.say("Nothing differs.")


def show_damaged(damaged: Sequence[tuple[PlacePath, int]], *, as_json: bool) -> None:
    if as_json:
        console.say_json({"damaged": [{"path": p, "backup": number} for p, number in damaged]})
    elif damaged:
        rows = [(shown(path), str(number)) for path, number in damaged]
        console.table(("lost or damaged", "in backup"), rows, right=(1,))
        console.say("All other kept files are whole, and can be brought back.")
    else:
        console.say("All kept files are whole.")
    if damaged:
        raise typer.Exit(1)


def show_dropped(backups: Sequence[Backup], freed: int) -> None:
    for each in backups:
        console.say(f"Dropped {name_of(each)}.")
    console.say(f"Freed {console.bytes_text(freed)}: what other backups have stays.")


def show_exported(backup: Backup, lost: Sequence[PlacePath], target: str) -> None:
    files = console.count_text(backup.files - len(lost), "file")
    console.say(f"Wrote {files} of {name_of(backup)} to {target}.")
    for path in lost:
        console.warn(f"{shown(path)} is lost or damaged, and not in it")
    if lost:
        raise typer.Exit(1)


def show_plan(bringing: BringingBack, *, files: bool, every: bool) -> None:
    from rellum.cli.views import plans

    if files:
        plans.plan_lines(bringing.plan, every=every)
    count = console.count_text(len(bringing.plan.operations), "file")
    console.say(f"{count} would be as in {name_of(bringing.backup)}.")


def show_brought(result: BroughtBack) -> bool:
    """Say what was brought back; return whether all of it was."""
    bringing = result.bringing
    for path in bringing.lost[:20]:
        console.warn(
            f"{shown(path)} cannot be brought back: it is lost, damaged, or has no place here"
        )
    if bringing.plan.is_empty:
        console.say("Nothing to do: these files are as they were then.")
    elif not result.done:
        console.say("Nothing was changed.")
        return False
    else:
        kept = result.kept
        console.say(
            f"Done: {console.count_text(len(bringing.plan.operations), 'file')} brought back."
        )
        if kept and kept.number:
            console.say(f"What was there before is in backup {kept.number}.")
    if bringing.newer:
        files = console.count_text(len(bringing.newer), "newer file stays", "newer files stay")
        console.say(f"{files}; --exactly removes what came since.")
    return not bringing.lost


def brought_document(result: BroughtBack) -> BroughtBackDocument:
    """Return what was brought back, for programs."""
    from rellum.cli.documents.shared import change_document

    bringing = result.bringing
    return {
        **change_document(bringing.plan, done=result.done),
        "backup": document(bringing.backup),
        "lost": list(bringing.lost),
        "newer": list(bringing.newer),
        "kept_backup": (result.kept.number or None) if result.kept else None,
    }
