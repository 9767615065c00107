"""``rellum shelf``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.views import shelf as view

if TYPE_CHECKING:
    from rellum.core.actions.gather.shelf import Inventory, Trim
    from rellum.core.shelf.store import Shelf


def shelf(
    what: Annotated[
        str,
        typer.Argument(
            metavar="[list|check|trim|drop|upstream]", help="What to do with the shelf."
        ),
    ] = "list",
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[ARCHIVE]...",
            help="drop: archives by name, by release (MOD@VERSION), or by the first 8 signs of "
            "their hash. upstream: an address, or 'none'.",
        ),
    ] = None,
    free: Annotated[
        str,
        typer.Option("--free", metavar="SIZE", help="trim: free only this much, for example 2GB."),
    ] = "",
    by_hand: Annotated[
        bool,
        typer.Option(
            "--by-hand",
            help="trim --free: include archives that packs need and that you downloaded by hand.",
        ),
    ] = False,
    yes: options.Yes = False,
    as_json: options.Json = False,
) -> None:
    """List the shelf, verify its archives, or free space.

    The shelf is shared by all packs of a user. trim deletes first what no pack needs, then, with --free,
    what can be fetched again. drop deletes the archives you name. upstream: where a team shares archives;
    'fetch' asks there first, and fills it.
    """
    from rellum.core.shelf.location import shelf_folder
    from rellum.core.shelf.store import Shelf

    if what not in ("list", "check", "trim", "drop", "upstream"):
        raise console.BadCall(f"'rellum shelf {what}': it is list, check, trim, drop or upstream")
    if what == "upstream":
        _upstream(shelf_folder(), names or [], as_json=as_json)
        return
    if bool(names) != (what == "drop"):
        raise console.BadCall(
            "name the archives to delete with 'rellum shelf drop', and only there"
        )
    if free and what != "trim":
        raise console.BadCall("--free goes with 'rellum shelf trim'")
    if by_hand and not free:
        raise console.BadCall("--by-hand goes with 'rellum shelf trim --free SIZE'")
    if what == "check":
        _mend(shelf_folder())
    with Shelf(shelf_folder()) as opened:
        if what == "check":
            _check(opened, as_json=as_json)
        elif what == "drop":
            _drop(opened, names or [], yes=yes, as_json=as_json)
        elif what == "trim":
            _trim(
                opened,
                view.bytes_of(free) if free else None,
                by_hand=by_hand,
                yes=yes,
                as_json=as_json,
            )
        else:
            _list(opened, as_json=as_json)


def _upstream(folder: str, said: list[str], *, as_json: bool) -> None:
    """Show the shelf's upstream, or give it one."""
    from rellum.core.feed.upstream import address_of, set_address

    if len(said) > 1:
        raise console.BadCall(
            "a shelf has one upstream: a folder, s3://…, davs://… or a web address"
        )
    if said:
        set_address(folder, "" if said[0] == "none" else said[0])
    address = address_of(folder)
    if as_json:
        console.say_json({"upstream": address or None})
    else:
        console.say(f"Upstream: {address}" if address else "The shelf has no upstream.")


def _list(opened: Shelf, *, as_json: bool) -> None:
    from rellum.core.actions.gather.shelf import inventory

    found = inventory(opened)
    if as_json:
        console.say_json(view.document(found))
        return
    view.show_list(found)


def _mend(folder: str) -> None:
    """Rebuild the index if it is damaged, and say how that went."""
    from rellum.core.shelf.mend_index import mend_index

    with console.progress() as listen:
        mended = mend_index(folder, listen)
    if mended is None:
        return
    view.tell_mended(mended)


def _check(opened: Shelf, *, as_json: bool) -> None:
    from rellum.core.actions.gather.shelf import check

    with console.progress() as listen:
        count, damaged = check(opened, listen)
    if as_json:
        console.say_json(
            {"checked_count": count, "damaged": [view.damaged_document(each) for each in damaged]}
        )
    else:
        view.show_checked(count, damaged)
    if damaged:
        raise typer.Exit(1)


def _trim(opened: Shelf, free: int | None, *, by_hand: bool, yes: bool, as_json: bool) -> None:
    from rellum.core.actions.gather.shelf import inventory, plan_trim

    found = inventory(opened)
    trim = plan_trim(found, free, by_hand=by_hand)
    _carry_out(opened, found, trim, free, yes=yes, as_json=as_json)
    if free is not None and trim.size < free:
        raise typer.Exit(1)


def _drop(opened: Shelf, names: list[str], *, yes: bool, as_json: bool) -> None:
    from rellum.core.actions.gather.shelf import inventory, plan_drop

    found = inventory(opened)
    _carry_out(opened, found, plan_drop(found, names), None, yes=yes, as_json=as_json)


def _carry_out(
    opened: Shelf, found: Inventory, trim: Trim, free: int | None, *, yes: bool, as_json: bool
) -> None:
    """Show what goes, ask, and delete it."""
    from rellum.core.actions.gather.shelf import carry_out_trim

    if not as_json:
        view.show_trim(found, trim, free)
    question = f"Free {console.bytes_text(trim.size)}?"
    done = bool(trim.size) and console.confirm(question, yes=yes, what="this deletes archives")
    if done:
        carry_out_trim(opened, trim)
        if not as_json:
            console.say(f"Freed {console.bytes_text(trim.size)}.")
    if as_json:
        console.say_json(
            {
                "done": done,
                "freed_bytes": trim.size if done else 0,
                "archives": [view.item_document(item) for item in trim.items],
            }
        )
