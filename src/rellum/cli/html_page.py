"""HTML pages of one file that need nothing from elsewhere (HTML Living Standard).

Every text that comes from a card, a name or a log is escaped. Colours are never the only sign; tables have
captions and headings for those who hear the page.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape
from urllib.parse import urlsplit

from rellum.cli import console

_POLICY = "default-src 'none'; style-src 'unsafe-inline'"
"""Nothing is loaded from elsewhere, and no script runs, whatever a card says (CSP Level 3)."""
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


def page_of(title: str, parts: Iterable[str]) -> str:
    """Return a page with some parts, which are HTML already; empty ones are left out."""
    body = "\n".join(filter(None, parts))
    return (
        '<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        '<meta name="viewport" content="width=device-width, initial-scale=1">\n'
        f'<meta http-equiv="Content-Security-Policy" content="{_POLICY}">\n'
        f"<title>{escaped(title)}</title>\n<style>{_STYLE}</style>\n</head>\n<body>\n<main>\n{body}\n</main>\n"
        "</body>\n</html>\n"
    )


def escaped(text: object) -> str:
    """Return a text as HTML, harmless whatever it is."""
    return escape(console.harmless(str(text)), quote=True)


def date_cell(text: str) -> str:
    """Return a date that is not broken over lines."""
    return f'<span class="date">{escaped(text or "-")}</span>'


def box(value: str, label: str, look: str = "") -> str:
    """Return a small box with a value and what it is."""
    return f'<div class="card"><b class="{look}">{escaped(value)}</b>{escaped(label)}</div>'


def table_of(
    caption: str, headings: Sequence[str], rows: Iterable[Sequence[str]], right: Sequence[int] = ()
) -> str:
    """Return a table of cells that are HTML already."""

    def cell(tag: str, position: int, text: str) -> str:
        look = ' class="n"' if position in right else ""
        scope = ' scope="col"' if tag == "th" else ""
        return f"<{tag}{look}{scope}>{text}</{tag}>"

    head = "".join(cell("th", at, escaped(text)) for at, text in enumerate(headings))
    body = "\n".join(
        "<tr>" + "".join(cell("td", at, text) for at, text in enumerate(row)) + "</tr>"
        for row in rows
    )
    return (
        f'<div class="wide"><table><caption>{escaped(caption)}</caption><thead><tr>{head}</tr></thead>'
        f"<tbody>\n{body}\n</tbody></table></div>"
    )


def link_to(text: str, page: str) -> str:
    """Return a link to a page; the text alone where the address is no plain web address."""
    parts = urlsplit(page) if page else None
    if parts is None or parts.scheme not in ("http", "https") or not parts.netloc:
        return escaped(text)
    return f'<a href="{escaped(page)}" rel="noreferrer">{escaped(text)}</a>'
