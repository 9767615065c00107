"""``rellum take``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from rellum.cli import console, options

if TYPE_CHECKING:
    from rellum.core.actions.take import Taken


def take(
    archives: Annotated[list[str], typer.Argument(metavar="ARCHIVE...", help="Archives to take.")],
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Check archives, know their releases, put copies on the shelf.

    Each archive is read in full. One that is damaged or hostile is refused; the others are taken.
    """
    from rellum.core.actions.take import take as action
    from rellum.core.shelf.store import shelf_folder

    with console.progress() as listen:
        results = action(pack, archives, shelf_folder(), listen)
    refused = [each for each in results if each.outcome == "refused"]
    if as_json:
        console.say_json({"archives": [_document(each) for each in results]})
    else:
        _show([each for each in results if each.outcome != "refused"])
    for each in refused:
        console.show_error(each.reason, (), each.hint)
    if refused:
        raise typer.Exit(2 if len(refused) == len(results) else 1)


def _show(results: list[Taken]) -> None:
    rows = [
        (
            each.outcome,
            f"{each.release.mod} {each.release.version}" if each.release else "?",
            console.bytes_text(each.size),
            each.path + (f"  ({each.reason})" if each.reason else ""),
        )
        for each in results
    ]
    if rows:
        console.table(("outcome", "release", "size", "archive"), rows, right=(2,))


def _document(taken: Taken) -> dict[str, Any]:
    return {
        "path": taken.path,
        "outcome": taken.outcome,
        "mod": taken.release.mod if taken.release else None,
        "version": taken.release.version.text if taken.release else None,
        "size": taken.size,
        "blake3": taken.digest,
        "reason": taken.reason or None,
    }
