"""A page that lists a pack's mods, for people who only want to read it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli.console import count_text
from rellum.cli.html_page import box, escaped, link_to, page_of, table_of

if TYPE_CHECKING:
    from rellum.core.actions.share.listing import Listing


def page(listing: Listing) -> str:
    """Return the page."""
    boxes = box(count_text(len(listing.mods), "mod"), "in load order") + box(
        listing.line_up, "to compare: the line-up"
    )
    rows = [
        (
            str(number),
            link_to(each.name, each.page),
            escaped(each.version),
            escaped(", ".join(each.needed_by) or "-"),
            escaped(each.licence or "-"),
        )
        for number, each in enumerate(listing.mods, 1)
    ]
    headings = ("#", "mod", "version", "needed by", "licence")
    parts = [
        f"<header><h1>{escaped(listing.pack)}</h1><p>A modpack for {escaped(listing.game)}.</p></header>",
        f'<div class="cards">{boxes}</div>',
        table_of("In load order: what comes later wins.", headings, rows, right=(0,)),
    ]
    return page_of(f"{listing.pack}: {listing.game}", parts)
