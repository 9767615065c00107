"""Files that say what a pack is made of: a bill of materials, sums, a page for people."""

from __future__ import annotations

import os
from typing import NamedTuple

from rellum.core.change.request import Request


class ListFiles(NamedTuple):
    """Where each is written to; empty: not at all."""

    bill: str
    sums: str
    page: str


def write_lists(request: Request, wanted: ListFiles) -> tuple[tuple[str, int], ...]:
    """Write what is wanted; return each file with its size in bytes. Raises NoLineUp, OSError."""
    from rellum.cli.views.mod_page import page
    from rellum.core.actions.share.listing import bill_text, listing_of, sums_text
    from rellum.core.durable import write_durably

    listing = listing_of(request)
    written = []
    for file, text_of in ((wanted.bill, bill_text), (wanted.sums, sums_text), (wanted.page, page)):
        if file:
            write_durably(os.path.abspath(file), text_of(listing).encode("utf-8", "replace"))
            written.append((file, os.path.getsize(file)))
    return tuple(written)
