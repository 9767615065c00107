"""Where a mod is published, and how its newest version is told there: ``[news]`` in a card."""

from __future__ import annotations

from functools import partial
from typing import Final

from rellum.core.catalog.model import NewsSource
from rellum.core.catalog.self_descriptions import checked_pattern
from rellum.core.catalog.tables import TableReader

NEWS_FORMS: Final = ("text", "json", "xml")
_WEB: Final = ("https://", "http://")


def read_news(root: TableReader) -> NewsSource | None:
    """Read ``[news]`` of a card, noting every fault."""
    if "news" not in root:
        return None
    reader = root.table("news")
    url = reader.text("from", "https://files.example.invalid/tidal.xml", required=True) or ""
    page = reader.text("page", "https://files.example.invalid/tidal") or url
    form = reader.text("form", "xml") or "text"
    keys = reader.texts("version", "entry") if "version" in reader else ()
    pattern = ""
    if "pattern" in reader:
        check = partial(checked_pattern, groups=("version",))
        pattern = reader.parsed("pattern", "(?P<version>[0-9.]+)", check) or ""
    if form not in NEWS_FORMS:
        reader.fault(f"{form!r} is not a form; use one of {', '.join(NEWS_FORMS)}", "form")
    if form == "text" and "pattern" not in reader:
        reader.fault("a page needs a 'pattern' that finds the version: (?P<version>…)")
    if form in ("json", "xml") and not keys:
        reader.fault("'version' is missing; write the keys that lead to it")
    for key, address in (("from", url), ("page", page)):
        if address and not address.startswith(_WEB):
            reader.fault(f"{address!r} begins with neither https:// nor http://", key)
    reader.finish()
    return NewsSource(url=url, page=page, form=form, keys=tuple(keys), pattern=pattern)
