"""The health page: one HTML file that needs nothing from elsewhere (HTML Living Standard).

Every text that comes from a card, a name or a log is escaped. Colours are never the only sign; tables have
captions and headings for those who hear the page.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from rellum.cli import console
from rellum.cli.console import bytes_text, count_text, moment_text
from rellum.core.values.paths import shown

if TYPE_CHECKING:
    from rellum.core.actions.live.history import HistoryEntry, ReleaseChange
    from rellum.core.actions.live.report import Report
    from rellum.core.solving.game_versions import Cell

_MOST_ROWS = 200
_POLICY = "default-src 'none'; style-src 'unsafe-inline'"
"""Nothing is loaded from elsewhere, and no script runs, whatever a card says (CSP Level 3)."""
_WORDS = {
    "ready": "ready",
    "other": "other release",
    "tried": "by a trial",
    "back": "holds back",
    "gone": "not needed",
    "unknown": "unknown",
}
_STYLE = """
:root { --ink: #16202a; --soft: #52606d; --paper: #ffffff; --line: #d5dce3; --panel: #f4f7fa;
  --deep: #1f4e79; --good: #176639; --bad: #a8321f; --mild: #8a5a00; color-scheme: light dark; }
@media (prefers-color-scheme: dark) {
  :root { --ink: #e6edf3; --soft: #9fb0c0; --paper: #10161c; --line: #2c3945; --panel: #18212a;
    --deep: #8fb8de; --good: #7bd39b; --bad: #ff9c8a; --mild: #e9bd6b; } }
* { box-sizing: border-box; }
body { margin: 0; background: var(--paper); color: var(--ink); font: 16px/1.5 system-ui, sans-serif; }
main { max-width: 62rem; margin: 0 auto; padding: 1.25rem 1rem 4rem; }
h1 { font-size: 1.6rem; margin: 0; } h2 { font-size: 1.15rem; margin: 2.2rem 0 .6rem; color: var(--deep); }
p { margin: .4rem 0; } .soft { color: var(--soft); }
.cards { display: grid; grid-template-columns: repeat(auto-fit, minmax(9.5rem, 1fr)); gap: .6rem;
  margin: 1rem 0; }
.card { background: var(--panel); border: 1px solid var(--line); border-radius: .5rem; padding: .6rem .8rem; }
.card b { display: block; font-size: 1.25rem; overflow-wrap: anywhere; }
.wide { overflow-x: auto; } table { border-collapse: collapse; width: 100%; font-size: .93rem; }
caption { text-align: left; color: var(--soft); padding-bottom: .3rem; }
th, td { text-align: left; padding: .32rem .6rem .32rem 0; border-bottom: 1px solid var(--line);
  vertical-align: top; min-width: 3.2rem; }
td:first-child, th:first-child { min-width: 1.6rem; }
th { font-weight: 600; color: var(--soft); white-space: nowrap; }
td.n, th.n { text-align: right; white-space: nowrap; }
.good { color: var(--good); } .bad { color: var(--bad); font-weight: 600; } .mild { color: var(--mild); }
.bar { background: var(--deep); height: .7rem; border-radius: .2rem; min-width: 2px; }
details { margin: .4rem 0; } summary { cursor: pointer; }
code { font-size: .9em; overflow-wrap: anywhere; display: inline-block; min-width: 9rem; }
.date { white-space: nowrap; }
ul { margin: .2rem 0 .6rem; padding-left: 1.2rem; } a { color: var(--deep); }
@media (max-width: 34rem) { .hide { display: none; } }
@media print { body { font-size: 11pt; } details > * { display: block; } h2 { break-after: avoid; }
  tr { break-inside: avoid; } }
"""


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
    body = "\n".join(filter(None, parts))
    title = _e(f"{report.pack}: {report.game} {report.version}")
    return (
        '<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        '<meta name="viewport" content="width=device-width, initial-scale=1">\n'
        f'<meta http-equiv="Content-Security-Policy" content="{_POLICY}">\n'
        f"<title>{title}</title>\n<style>{_STYLE}</style>\n</head>\n<body>\n<main>\n{body}\n</main>\n"
        "</body>\n</html>\n"
    )


def _e(text: object) -> str:
    return escape(console.harmless(str(text)), quote=True)


def _date(text: str) -> str:
    return f'<span class="date">{_e(text or "-")}</span>'


def _card(value: str, label: str, look: str = "") -> str:
    return f'<div class="card"><b class="{look}">{_e(value)}</b>{_e(label)}</div>'


def _table(
    caption: str, headings: Sequence[str], rows: Iterable[Sequence[str]], right: Sequence[int] = ()
) -> str:
    """Return a table of cells that are HTML already."""

    def cell(tag: str, position: int, text: str) -> str:
        look = ' class="n"' if position in right else ""
        scope = ' scope="col"' if tag == "th" else ""
        return f"<{tag}{look}{scope}>{text}</{tag}>"

    head = "".join(cell("th", at, _e(text)) for at, text in enumerate(headings))
    body = "\n".join(
        "<tr>" + "".join(cell("td", at, text) for at, text in enumerate(row)) + "</tr>"
        for row in rows
    )
    return (
        f'<div class="wide"><table><caption>{_e(caption)}</caption><thead><tr>{head}</tr></thead>'
        f"<tbody>\n{body}\n</tbody></table></div>"
    )


def _head(report: Report) -> str:
    edition = f", {report.edition} edition" if report.edition else ""
    expansions = f", with {', '.join(report.expansions)}" if report.expansions else ""
    lacking = [each for each in report.releases if each.laid != each.version.split(" (")[0]]
    drift = len(report.drift.findings)
    played = next((each for each in report.plays if each.outcome), None)
    cards = [
        _card(str(len(report.releases)), "releases in the line-up"),
        _card(
            "as planned" if not lacking else f"{len(lacking)} differ",
            "in the game folder",
            "good" if not lacking else "mild",
        ),
        _card("none" if not drift else str(drift), "drift", "good" if not drift else "bad"),
        _card(
            played.outcome if played else "not tried",
            f"last played {moment_text(played.at)[:10]}" if played else "'rellum play' records it",
            "" if not played else "good" if played.outcome == "works" else "bad",
        ),
    ]
    return (
        f"<header><h1>{_e(report.pack)}</h1>"
        f"<p>{_e(report.game)} {_e(report.version)}{_e(edition)}{_e(expansions)}; variant "
        f"{_e(report.variant)}</p>"
        f'<p class="soft">As of {_e(moment_text(report.made_at))} UTC, by Rellum.</p></header>'
        f'<div class="cards">{"".join(cards)}</div>'
    )


def _link(text: str, page: str) -> str:
    """Return a link to a page; the text alone where the address is no plain web address."""
    parts = urlsplit(page) if page else None
    if parts is None or parts.scheme not in ("http", "https") or not parts.netloc:
        return _e(text)
    return f'<a href="{_e(page)}" rel="noreferrer">{_e(text)}</a>'


def _line_up(report: Report) -> str:
    if not report.releases:
        return "<h2>Line-up</h2><p>The pack has no mods: this is vanilla.</p>"
    rows = []
    for number, each in enumerate(report.releases, 1):
        differs = each.laid != each.version.split(" (")[0]
        here = f'<span class="mild">{_e(each.laid or "not laid")}</span>' if differs else "the same"
        rows.append(
            (
                str(number),
                _link(each.name, each.page),
                _e(each.version),
                here,
                _date(moment_text(each.since)[:10]),
                _e(each.why),
                _e(each.licence or "-"),
            )
        )
    headings = ("#", "mod", "version", "in the game", "since", "why", "licence")
    holds = "".join(
        f"<li>{_e(mod)} is held at {_e(version)}: {_e(reason or 'no reason given')}</li>"
        for mod, version, reason in report.holds
    )
    table = _table("In load order: what comes later wins.", headings, rows, right=(0,))
    return "<h2>Line-up</h2>" + table + (f"<p>Holds:</p><ul>{holds}</ul>" if holds else "")


def _look_at(report: Report) -> str:
    found = [("the pack", each) for each in report.look_at]
    found += [
        (f"{each.name} {each.version}", note) for each in report.releases for note in each.notes
    ]
    if not found:
        return ""
    items = "".join(
        f"<li>{_e(what)} <span class=soft>({_e(who)})</span></li>" for who, what in found
    )
    return f"<h2>To look at by hand</h2><ul>{items}</ul>"


def _reason(report: Report, section: str) -> str:
    why = dict(report.missing).get(section, "")
    return f"<p class=mild>It could not be told: {_e(why)}</p>"


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
        (_e(mod), *(_cell(version.cells[at]) for version in versions))
        for at, mod in enumerate(report.outlook.mods[:_MOST_ROWS])
    ]
    table = _table("Which mods go with which version of the game.", headings, rows)
    return "<h2>Outlook</h2>" + table


def _cell(cell: Cell) -> str:
    look = {"ready": "good", "back": "bad", "tried": "mild", "unknown": "soft"}.get(cell.status, "")
    label = f" {cell.release.label}" if cell.release and cell.status in ("other", "tried") else ""
    return f'<span class="{look}">{_WORDS[cell.status]}{_e(label)}</span>'


def _conflicts(report: Report) -> str:
    if report.conflicts is None:
        return "<h2>Conflicts</h2>" + _reason(report, "conflicts")
    found = [each for each in report.conflicts.conflicts if not each.is_same]
    if not found:
        return "<h2>Conflicts</h2><p class=good>No two mods bring the same file with other content.</p>"
    rows = [
        (
            f"<code>{_e(shown(each.path))}</code>",
            _e(", ".join(each.mods)),
            _e(each.winner) + (" (chosen)" if each.is_chosen else ""),
            _e(", ".join(each.edited_by) or "-"),
        )
        for each in found[:_MOST_ROWS]
    ]
    caption = (
        f"{count_text(len(found), 'file')} that several mods bring; the winner's is in the game."
    )
    return "<h2>Conflicts</h2>" + _table(
        caption, ("file", "brought by", "winner", "edited by"), rows
    )


def _drift(report: Report) -> str:
    found = report.drift.findings
    seen = count_text(report.drift.files_seen, "entry", "entries")
    if not found:
        return f"<h2>Drift</h2><p class=good>No drift: {_e(seen)} checked.</p>"
    rows = [
        (_e(each.kind), f"<code>{_e(shown(each.path))}</code>", _e(each.owner or "nobody"))
        for each in found[:_MOST_ROWS]
    ]
    caption = f"{count_text(len(found), 'difference')} from what Rellum left; {seen} checked."
    return "<h2>Drift</h2>" + _table(caption, ("what", "file", "whose"), rows)


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
                f'<span class="{look}">{_e(each.outcome)}</span>',
                _e(each.game),
                _date(each.date),
                _e(what),
                _e(each.note or "-"),
            )
        )
    return "<h2>Trials</h2>" + _table(
        "What was tried, the newest first.", ("outcome", "game", "date", "what", "note"), rows
    )


def _history(report: Report) -> str:
    if not report.changes:
        return ""
    rows = [
        (
            _date(moment_text(each.at)),
            _e(_action(each)),
            _changes_text(each.releases),
            _e(_how_it_ran(each)),
        )
        for each in report.changes
    ]
    return "<h2>History</h2>" + _table(
        "What changed when, the newest first.", ("when (UTC)", "by", "mods", "played"), rows
    )


def _action(each: HistoryEntry) -> str:
    game = f" (game {each.game})" if each.game != each.game_before else ""
    return f"{each.action}{game}"


def _changes_text(changes: Sequence[ReleaseChange]) -> str:
    texts = []
    for each in changes[:12]:
        if each.before is None:
            texts.append(f"<span class=good>+ {_e(each.mod)} {_e(each.after)}</span>")
        elif each.after is None:
            texts.append(f"<span class=bad>&minus; {_e(each.mod)} {_e(each.before)}</span>")
        else:
            new = f"with {each.options}" if each.options else f"to {each.after}"
            texts.append(f"{_e(each.mod)} {_e(each.before)} {_e(new)}")
    if len(changes) > 12:
        texts.append(_e(f"… and {len(changes) - 12} more"))
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
            _e(each.name),
            _e(bytes_text(each.bytes)),
            f'<div class="bar" style="width:{100 * each.bytes / most:.1f}%"></div>',
            _e(each.meaning),
        )
        for each in report.space.uses
    ]
    caption = f"{bytes_text(report.space.total)} in all."
    return "<h2>Space</h2>" + _table(caption, ("what", "bytes", "share", "for"), rows, right=(1,))
