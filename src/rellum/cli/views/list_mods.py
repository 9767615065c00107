"""What ``rellum list`` shows, in five forms."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.change import CatalogListDocument, ListDocument
    from rellum.core.actions.change.list_mods import CatalogMod, ListedMod
    from rellum.core.values.ids import ReleaseName

FORMS = ("table", "text", "markdown", "csv")


def show(mods: Sequence[ListedMod], form: str, *, narrowed: bool, as_json: bool) -> None:
    if as_json:
        console.say_json(document(mods))
        return
    if form == "text":
        for each in mods:
            by_hand = "".join(f"; {note}" for note in each.notes)
            console.say_page(f"{each.name} {_label(each.release or each.waits_for)}{by_hand}")
        return
    waits = any(each.waits_for for each in mods)
    rows = [
        (
            each.mod,
            _label(each.release),
            *([_label(each.waits_for) if each.waits_for else ""] if waits else []),
            each.since.partition("T")[0],
            "leaves" if each.goes else ", ".join(each.because) or "wanted",
            each.page,
        )
        for each in mods
    ]
    headings = ["mod", "version", "since", "wanted or needed by", "from"]
    if waits:
        headings.insert(2, "waits for")
    _write(headings, rows, form)
    if form == "table":
        if not mods:
            what = "No mod here has all these words" if narrowed else "The game has no mods"
            console.say(f"{what}. 'rellum list --catalog' shows what could be had.")
        for each in mods:
            for note in each.notes:
                console.say(f"{each.mod}, to check by hand: {note}")


def show_catalog(mods: Sequence[CatalogMod], form: str, *, narrowed: bool, as_json: bool) -> None:
    if as_json:
        console.say_json(catalog_document(mods))
        return
    if form == "text":
        for each in mods:
            console.say_page(f"{each.name} {_label(each.newest)}")
        return
    rows = [
        (
            each.mod,
            _label(each.newest),
            each.game,
            f"{each.release_count:,}",
            each.kind,
            _label(each.laid) if each.laid else "wanted" if each.is_wanted else "",
            each.name,
        )
        for each in mods
    ]
    headings = ("mod", "newest", "for game", "releases", "kind", "in the game", "name")
    _write(headings, rows, form, right=(3,))
    if form == "table" and not mods:
        what = (
            "No mod of the catalog has all these words" if narrowed else "The catalog has no mods"
        )
        console.say(f"{what}.")


def _label(name: ReleaseName | None) -> str:
    if name is None:
        return "-"
    return f"{name.version} ({name.build})" if name.build else name.version


def _write(
    headings: Sequence[str], rows: Sequence[Sequence[str]], form: str, right: Sequence[int] = ()
) -> None:
    if form == "csv":
        console.say_csv([headings, *rows])
    elif form == "markdown":
        console.say_page(f"| {' | '.join(headings)} |")
        console.say_page("|" + "---|" * len(headings))
        for row in rows:
            console.say_page(f"| {' | '.join(_markdown(cell) for cell in row)} |")
    elif rows:
        console.table(headings, rows, right=right)


def _markdown(text: str) -> str:
    """Return text that means itself in a table of Markdown."""
    if text.startswith(("http://", "https://")):
        for sign in "<>| \\":
            text = text.replace(sign, f"%{ord(sign):02X}")
        return console.one_line(f"<{text}>")
    escaped = "".join(f"\\{sign}" if sign in "\\`*_[]<>|" else sign for sign in text)
    return console.one_line(escaped) or " "


def document(mods: Sequence[ListedMod]) -> ListDocument:
    """Return the list for programs."""
    from rellum.cli.documents.shared import release_document

    return {
        "mods": [
            {
                "mod": each.mod,
                "name": each.name,
                "kind": each.kind or None,
                "release": release_document(each.release) if each.release else None,
                "waits_for": release_document(each.waits_for) if each.waits_for else None,
                "goes": each.goes,
                "since": each.since or None,
                "needed_by": list(each.because),
                "page": each.page or None,
                "licence": each.licence or None,
                "check_by_hand": list(each.notes),
            }
            for each in mods
        ]
    }


def catalog_document(mods: Sequence[CatalogMod]) -> CatalogListDocument:
    """Return the mods of the catalog for programs."""
    from rellum.cli.documents.shared import release_document

    return {
        "catalog": [
            {
                "mod": each.mod,
                "name": each.name,
                "kind": each.kind,
                "newest": release_document(each.newest) if each.newest else None,
                "game": each.game or None,
                "release_count": each.release_count,
                "licence": each.licence or None,
                "laid": release_document(each.laid) if each.laid else None,
                "is_wanted": each.is_wanted,
            }
            for each in mods
        ]
    }
