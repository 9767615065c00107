"""The health page of a pack."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli.console import bytes_text, count_text, moment_text
from rellum.cli.html_page import box, date_cell, escaped, link_to, page_of, table_of
from rellum.core.values.paths import shown
from rellum.core.words import count_words

if TYPE_CHECKING:
    from rellum.core.actions.live.history import HistoryEntry, ReleaseChange
    from rellum.core.actions.live.report import Report
    from rellum.core.solving.game_versions import Cell

_MOST_ROWS = 200
_WORDS = {
    "ready": "ready",
    "other": "other release",
    "tried": "by a trial",
    "back": "holds back",
    "gone": "not needed",
    "unknown": "unknown",
}


def write(report: Report, file: str) -> None:
    """Write the page. Raises OSError."""
    from rellum.core.durable import write_durably

    write_durably(file, page(report).encode("utf-8", "replace"))


def summary(report: Report) -> str:
    """Return what the command says of the page."""
    releases = count_text(len(report.releases), "release")
    return f"{releases}, {count_text(len(report.drift.findings), 'difference')} in the folder"


def page(report: Report) -> str:
    """Return the page."""
    parts = [
        _head(report),
        _line_up(report),
        _look_at(report),
        _outlook(report),
        _conflicts(report),
        _drift(report),
        _trials(report),
        _history(report),
        _space(report),
    ]
    return page_of(f"{report.pack}: {report.game} {report.version}", parts)


def _head(report: Report) -> str:
    edition = f", {report.edition} edition" if report.edition else ""
    expansions = f", with {', '.join(report.expansions)}" if report.expansions else ""
    lacking = [each for each in report.releases if each.laid != each.version.split(" (")[0]]
    drift = len(report.drift.findings)
    played = next((each for each in report.plays if each.outcome), None)
    cards = [
        box(str(len(report.releases)), "releases in the line-up"),
        box(
            "as planned" if not lacking else count_words(len(lacking), "differs", "differ"),
            "in the game folder",
            "good" if not lacking else "mild",
        ),
        box("none" if not drift else str(drift), "drift", "good" if not drift else "bad"),
        box(
            played.outcome if played else "not tried",
            f"last played {moment_text(played.at)[:10]}" if played else "'rellum play' records it",
            "" if not played else "good" if played.outcome == "works" else "bad",
        ),
    ]
    return (
        f"<header><h1>{escaped(report.pack)}</h1>"
        f"<p>{escaped(f'{report.game} {report.version}{edition}{expansions}; variant {report.variant}')}</p>"
        f'<p class="soft">As of {escaped(moment_text(report.made_at))} UTC, by Rellum.</p></header>'
        f'<div class="cards">{"".join(cards)}</div>'
    )


def _line_up(report: Report) -> str:
    if not report.releases:
        return "<h2>Line-up</h2><p>The pack has no mods: this is vanilla.</p>"
    rows = []
    for number, each in enumerate(report.releases, 1):
        differs = each.laid != each.version.split(" (")[0]
        here = (
            f'<span class="mild">{escaped(each.laid or "not laid")}</span>'
            if differs
            else "the same"
        )
        rows.append(
            (
                str(number),
                link_to(each.name, each.page),
                escaped(each.version),
                here,
                date_cell(moment_text(each.since)[:10]),
                escaped(each.why),
                escaped(each.licence or "-"),
            )
        )
    headings = ("#", "mod", "version", "in the game", "since", "why", "licence")
    holds = "".join(
        f"<li>{escaped(mod)} is held at {escaped(version)}: {escaped(reason or 'no reason given')}</li>"
        for mod, version, reason in report.holds
    )
    table = table_of("In load order: what comes later wins.", headings, rows, right=(0,))
    return "<h2>Line-up</h2>" + table + (f"<p>Holds:</p><ul>{holds}</ul>" if holds else "")


def _look_at(report: Report) -> str:
    found = [("the pack", each) for each in report.look_at]
    found += [
        (f"{each.name} {each.version}", note) for each in report.releases for note in each.notes
    ]
    if not found:
        return ""
    items = "".join(
        f"<li>{escaped(what)} <span class=soft>({escaped(who)})</span></li>" for who, what in found
    )
    return f"<h2>To look at by hand</h2><ul>{items}</ul>"


def _reason(report: Report, section: str) -> str:
    why = dict(report.missing).get(section, "")
    return f"<p class=mild>It could not be told: {escaped(why)}</p>"


def _outlook(report: Report) -> str:
    if report.outlook is None:
        return "<h2>Outlook</h2>" + _reason(report, "outlook")
    versions = report.outlook.versions
    if not report.outlook.mods or len(versions) < 2:
        return ""
    headings = [
        "mod",
        *(f"{each.game.text} (now)" if each.is_now else each.game.text for each in versions),
    ]
    rows = [
        (escaped(mod), *(_cell(version.cells[at]) for version in versions))
        for at, mod in enumerate(report.outlook.mods[:_MOST_ROWS])
    ]
    table = table_of("Which mods go with which version of the game.", headings, rows)
    return "<h2>Outlook</h2>" + table


def _cell(cell: Cell) -> str:
    look = {"ready": "good", "back": "bad", "tried": "mild", "unknown": "soft"}.get(cell.status, "")
    label = f" {cell.release.label}" if cell.release and cell.status in ("other", "tried") else ""
    return f'<span class="{look}">{_WORDS[cell.status]}{escaped(label)}</span>'


def _conflicts(report: Report) -> str:
    if report.conflicts is None:
        return "<h2>Conflicts</h2>" + _reason(report, "conflicts")
    found = [each for each in report.conflicts.conflicts if not each.is_same]
    if not found:
        return "<h2>Conflicts</h2><p class=good>No two mods bring the same file with other content.</p>"
    rows = [
        (
            f"<code>{escaped(shown(each.path))}</code>",
            escaped(", ".join(each.mods)),
            escaped(each.winner) + (" (chosen)" if each.is_chosen else ""),
            escaped(", ".join(each.edited_by) or "-"),
        )
        for each in found[:_MOST_ROWS]
    ]
    caption = (
        f"{count_text(len(found), 'file')} that several mods bring; the winner's is in the game."
    )
    return "<h2>Conflicts</h2>" + table_of(
        caption, ("file", "brought by", "winner", "edited by"), rows
    )


def _drift(report: Report) -> str:
    found = report.drift.findings
    seen = count_text(report.drift.files_seen, "entry", "entries")
    if not found:
        return f"<h2>Drift</h2><p class=good>No drift: {escaped(seen)} checked.</p>"
    rows = [
        (
            escaped(each.kind),
            f"<code>{escaped(shown(each.path))}</code>",
            escaped(each.owner or "nobody"),
        )
        for each in found[:_MOST_ROWS]
    ]
    caption = f"{count_text(len(found), 'difference')} from what Rellum left; {seen} checked."
    return "<h2>Drift</h2>" + table_of(caption, ("what", "file", "whose"), rows)


def _trials(report: Report) -> str:
    if not report.trials:
        return ""
    rows = []
    for each in report.trials[:_MOST_ROWS]:
        look = "good" if each.outcome == "works" else "bad"
        what = ", ".join(each.what[:6]) + (
            f" and {len(each.what) - 6} more" if len(each.what) > 6 else ""
        )
        rows.append(
            (
                f'<span class="{look}">{escaped(each.outcome)}</span>',
                escaped(each.game),
                date_cell(each.date),
                escaped(what),
                escaped(each.note or "-"),
            )
        )
    return "<h2>Trials</h2>" + table_of(
        "What was tried, the newest first.", ("outcome", "game", "date", "what", "note"), rows
    )


def _history(report: Report) -> str:
    if not report.changes:
        return ""
    rows = [
        (
            date_cell(moment_text(each.at)),
            escaped(_action(each)),
            _changes_text(each.releases),
            escaped(_how_it_ran(each)),
        )
        for each in report.changes
    ]
    return "<h2>History</h2>" + table_of(
        "What changed when, the newest first.", ("when (UTC)", "by", "mods", "played"), rows
    )


def _action(each: HistoryEntry) -> str:
    game = f" (game {each.game})" if each.game != each.game_before else ""
    return f"{each.action}{game}"


def _changes_text(changes: Sequence[ReleaseChange]) -> str:
    texts = []
    for each in changes[:12]:
        if each.before is None:
            texts.append(f"<span class=good>+ {escaped(each.mod)} {escaped(each.after)}</span>")
        elif each.after is None:
            texts.append(
                f"<span class=bad>&minus; {escaped(each.mod)} {escaped(each.before)}</span>"
            )
        else:
            new = f"with {each.options}" if each.options else f"to {each.after}"
            texts.append(f"{escaped(each.mod)} {escaped(each.before)} {escaped(new)}")
    if len(changes) > 12:
        texts.append(escaped(f"… and {len(changes) - 12} more"))
    return "<br>".join(texts) or "-"


def _how_it_ran(each: HistoryEntry) -> str:
    told = [play for play in each.plays if play.outcome]
    if not told:
        return "-"
    return f"{told[0].outcome}, but {told[0].word}" if told[0].word else told[0].outcome


def _space(report: Report) -> str:
    most = max((each.bytes for each in report.space.uses), default=0) or 1
    rows = [
        (
            escaped(each.name),
            escaped(bytes_text(each.bytes)),
            f'<div class="bar" style="width:{100 * each.bytes / most:.1f}%"></div>',
            escaped(each.meaning),
        )
        for each in report.space.uses
    ]
    caption = f"{bytes_text(report.space.total)} in all."
    return "<h2>Space</h2>" + table_of(caption, ("what", "bytes", "share", "for"), rows, right=(1,))
