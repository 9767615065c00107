"""What ``rellum check`` shows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.core.values.owners import VANILLA

if TYPE_CHECKING:
    from rellum.cli.documents.mend import CheckDocument
    from rellum.core.folder.model import Cause, Drift, Finding, GameUpdate, Guard


_MOST_MEMBERS = 5
"""How many members of a container to list, unless all are wanted."""


_WORDS: dict[Cause, tuple[str, str]] = {
    "game-update": ("game updated", "rellum apply moves the pack to what the game is now"),
    "half-updated": ("half updated", "let the store finish the update, then check again"),
    "vanilla-changed": ("vanilla changed", "rellum restore --damaged"),
    "vanilla-missing": ("vanilla missing", "rellum restore --damaged"),
    "mod-changed": ("mod changed", "rellum restore --damaged; rellum absorb keeps the change"),
    "mod-missing": ("mod missing", "rellum restore --damaged"),
    "left-over": ("left over", "rellum sweep moves it out of the game"),
    "foreign-shared": ("foreign, may load", "rellum sweep, or rellum absorb to keep it"),
    "unsure": (
        "new, whose?",
        "arrived with an update whose files are not known, so it may be the game's: left alone",
    ),
    "foreign": ("foreign", "harmless; rellum sweep moves it out of the game"),
    "case-changed": ("other capitals", "rellum restore --damaged restores its name"),
    "marker": ("Rellum's marker", "rellum apply writes it again"),
    "": ("differs", "without a catalog, the cause is unknown; rellum restore brings vanilla back"),
}
"""How each cause is called, and the command that deals with it."""


def show_lost_originals(drift: Drift) -> None:
    from rellum.cli.views import plans

    for paths, what in (
        (drift.missing_originals, "missing"),
        (drift.damaged_originals, "damaged"),
    ):
        if paths:
            count = console.count_text(len(paths), "file")
            plans.tell_paths(paths, f"The kept copies of {count} are {what}:")
    console.say("  rellum restore --damaged --from COPY replaces vanilla ones from a clean copy")


def show(drift: Drift, *, every: bool) -> None:
    if drift.update:
        console.say(console.styled(_update_line(drift.update), "bold"))
        console.say()
    show_findings(drift.findings, every=every)
    counts = {
        kind: sum(each.kind == kind for each in drift.findings)
        for kind in ("changed", "missing", "foreign")
    }
    told = ", ".join(f"{count:,} {kind}" for kind, count in counts.items() if count)
    console.say()
    console.say(f"{told}; {drift.files_seen:,} entries checked.")
    _show_remedies(drift)


def show_findings(findings: Sequence[Finding], *, every: bool) -> None:
    """Print findings, grouped where there are many."""
    from rellum.cli.views.plans import MOST_LINES

    if every or len(findings) <= MOST_LINES:
        _show_each(findings, every=every)
    else:
        _show_grouped(findings)
        console.say("(--full lists every file)")


def _update_line(update: GameUpdate) -> str:
    files = console.count_text(update.files, "file")
    if update.waiting:
        total = update.files + update.waiting
        return f"The game is half updated: {update.files:,} of {total:,} files are of {update.version}."
    if update.by == "baseline":
        return f"The game was updated: it is {update.told} now, {files} as known of that version."
    differ = "differs" if update.files == 1 else "differ"
    return f"The game was updated: it calls itself {update.told} now; {files} {differ}."


def _show_each(findings: Sequence[Finding], *, every: bool) -> None:
    from rellum.core.values.paths import shown

    rows: list[tuple[str, str, str, str]] = []
    for each in findings:
        what = _WORDS[each.cause][0]
        rows.append((what, shown(each.path), str(each.owner or "nobody"), each.detail))
        members = each.members if every else each.members[:_MOST_MEMBERS]
        rows += [(member.kind, f"  !/{member.member}", "", "") for member in members]
        if len(each.members) > len(members):
            more = console.count_text(len(each.members) - len(members), "member")
            rows.append(("", f"  … {more} more", "", ""))
    console.table(("finding", "file", "whose", "what"), rows)


def _show_grouped(findings: Sequence[Finding]) -> None:
    """Show how many there are of each cause in each folder; in folders further up, if that is long."""
    from collections import Counter

    from rellum.cli.views.plans import MOST_LINES

    order = list(_WORDS)
    for depth in range(max(each.path.count("/") for each in findings), 0, -1):
        groups: Counter[tuple[int, str, str]] = Counter()
        for each in findings:
            parts = each.path.split("/")
            folder = "/".join(parts[: min(depth, len(parts) - 1)])
            groups[order.index(each.cause), folder, str(each.owner or "nobody")] += 1
        if len(groups) <= MOST_LINES:
            break
    lines = sorted(groups)[:MOST_LINES]
    rows = [
        (_WORDS[order[cause]][0], _folder_words(folder), owner, f"{groups[cause, folder, owner]:,}")
        for cause, folder, owner in lines
    ]
    console.table(("finding", "in", "whose", "files"), rows, right=(3,))
    if len(groups) > len(lines):
        console.say(f"… and {len(groups) - len(lines):,} more groups")


def _folder_words(folder: str) -> str:
    from rellum.core.values.paths import GAME, shown

    return "(top)" if folder == GAME else f"{shown(folder)}/"


def _show_remedies(drift: Drift) -> None:
    """Say for each cause that was found which command deals with it."""
    causes = {each.cause for each in drift.findings}
    lacking = {
        each.cause for each in drift.findings if each.owner is VANILLA and not each.has_original
    }
    for cause, (word, remedy) in _WORDS.items():
        if cause in causes:
            if cause == "game-update" and drift.update and drift.update.mark_is_same:
                remedy = remedy.replace("rellum apply", "rellum apply --take-update")
            if cause in lacking and cause.startswith("vanilla"):
                remedy += " --from COPY (a clean copy: no original is here)"
            console.say(f"  {word + ':':18} {remedy}")
    is_other_version = bool(drift.update and drift.update.told == drift.update.version)
    if causes & {"game-update", "half-updated"} and is_other_version:
        console.say(f"  {'':18} rellum restore --damaged --from COPY puts the old files back")


def show_guard(guard: Guard) -> None:
    from rellum.core.values.paths import shown

    files = console.count_text(guard.files, "file")
    if not guard.broken:
        console.say(f"The guard holds: {files} of the game's store read-only.")
        return
    console.warn(f"the guard does not hold: {', '.join(map(shown, guard.broken[:5]))}")
    console.say("  rellum guard on makes them read-only again")


def show_own_changes(drift: Drift, *, every: bool) -> None:
    from rellum.core.values.paths import shown

    files = console.count_text(len(drift.own_changes), "file")
    are = "is" if len(drift.own_changes) == 1 else "are"
    named = drift.own_changes if every else drift.own_changes[:_MOST_MEMBERS]
    more = " …" if len(named) < len(drift.own_changes) else ""
    console.say(f"{files} {are} yours to change (settings, presets and the like):")
    console.say(f"  {', '.join(map(shown, named))}{more}")


def drift_document(drift: Drift) -> CheckDocument:
    """Return what a check found, for programs."""
    from rellum.cli.documents.shared import owner_document

    return {
        "findings": [
            {
                "path": each.path,
                "finding": each.kind,
                "cause": each.cause or None,
                "owner": owner_document(each.owner),
                "detail": each.detail,
                "has_original": each.has_original,
                "members": [
                    {"member": member.member, "finding": member.kind} for member in each.members
                ],
            }
            for each in drift.findings
        ],
        "touched": list(drift.touched),
        "own_changes": list(drift.own_changes),
        "missing_originals": list(drift.missing_originals),
        "damaged_originals": list(drift.damaged_originals),
        "update": {
            "version": drift.update.version or None,
            "file_count": drift.update.files,
            "told_by": drift.update.by,
            "still_as_before_count": drift.update.waiting,
        }
        if drift.update
        else None,
        "guard": {
            "file_count": drift.guard.files,
            "broken": list(drift.guard.broken),
        }
        if drift.guard
        else None,
        "seen_count": drift.files_seen,
        "hashed_count": drift.files_hashed,
    }
