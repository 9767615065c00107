"""What ``rellum compare`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.core.values.paths import shown

if TYPE_CHECKING:
    from rellum.cli.documents.change import CompareDocument, FileDifferenceDocument
    from rellum.core.actions.change.compare import Difference

_MOST_FILES = 30


def show(found: Difference, first: str, second: str, *, every: bool, as_json: bool) -> None:
    if as_json:
        console.say_json(document(found, first, second))
        return
    rows = [("release", mod, a or "-", b or "-") for mod, a, b in found.releases]
    rows += [("options", mod, a, b) for mod, a, b in found.options]
    if rows:
        console.table(("what", "mod", first, second), rows)
    files = (*(found.settings or ()), *(found.files or ()))
    shown_files = files if every else files[:_MOST_FILES]
    if rows and files:
        console.say()
    if files:
        names = {"only in the first": f"only in {first}", "only in the second": f"only in {second}"}
        console.table(
            ("difference", "file"),
            [(names.get(what, what), shown(path)) for path, what in shown_files],
        )
    if len(files) > len(shown_files):
        console.say(f"… and {len(files) - len(shown_files):,} more (--full lists every file)")
    if found.is_empty:
        console.say(f"{first} and {second} have the same releases and options{_and_files(found)}.")


def _and_files(found: Difference) -> str:
    if found.files is not None:
        return ", and the same files"
    return ", and the same settings" if found.settings is not None else ""


def document(found: Difference, first: str, second: str) -> CompareDocument:
    """Return the differences for programs."""
    return {
        "first": first,
        "second": second,
        "releases": [{"mod": mod, "first": a, "second": b} for mod, a, b in found.releases],
        "options": [{"mod": mod, "first": a, "second": b} for mod, a, b in found.options],
        "settings": _files(found.settings),
        "files": _files(found.files),
    }


def _files(found: tuple[tuple[str, str], ...] | None) -> list[FileDifferenceDocument] | None:
    if found is None:
        return None
    return [{"path": path, "difference": what} for path, what in found]
