"""``rellum shelf``."""

from __future__ import annotations

import os
import re
from typing import TYPE_CHECKING, Annotated, Any

import typer

from rellum.cli import console, options
from rellum.core.values.paths import shown_file

if TYPE_CHECKING:
    from rellum.core.actions.gather.shelf import Damaged, Inventory, Item, Trim
    from rellum.core.shelf.store import Shelf

_UNITS = {"": 1, "b": 1, "kb": 10**3, "mb": 10**6, "gb": 10**9, "tb": 10**12}


def shelf(
    what: Annotated[
        str, typer.Argument(metavar="[list|check|trim]", help="What to do with the shelf.")
    ] = "list",
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

    The shelf is shared by all packs of a user. trim takes first what no pack needs, then, with --free,
    what can be fetched again.
    """
    from rellum.core.shelf.location import shelf_folder
    from rellum.core.shelf.store import Shelf

    if what not in ("list", "check", "trim"):
        raise console.BadCall(f"'rellum shelf {what}': it is list, check or trim")
    if free and what != "trim":
        raise console.BadCall("--free goes with 'rellum shelf trim'")
    if by_hand and not free:
        raise console.BadCall("--by-hand goes with 'rellum shelf trim --free SIZE'")
    if what == "check":
        _mend(shelf_folder())
    with Shelf(shelf_folder()) as opened:
        if what == "check":
            _check(opened, as_json=as_json)
        elif what == "trim":
            _trim(opened, _bytes(free) if free else None, by_hand=by_hand, yes=yes, as_json=as_json)
        else:
            _list(opened, as_json=as_json)


def _list(opened: Shelf, *, as_json: bool) -> None:
    from rellum.core.actions.gather.shelf import inventory

    found = inventory(opened)
    if as_json:
        console.say_json(_document(found))
        return
    if found.items:
        _table(found.items)
    archives = console.count_text(len(found.items), "archive")
    console.say(f"{archives}, {console.bytes_text(found.size)}, in {found.folder}")
    if found.unfinished:
        size = console.bytes_text(sum(size for _, size in found.unfinished))
        count = console.count_text(len(found.unfinished), "download")
        console.say(f"{count} unfinished, {size}: 'rellum fetch' resumes them.")
    _warn_of_packs(found)


def _table(items: tuple[Item, ...]) -> None:
    rows = [
        (
            _name(item),
            item.release or "unknown",
            console.bytes_text(item.size),
            ", ".join(map(os.path.basename, item.needed_by)) or "-",
            item.again,
        )
        for item in items
    ]
    console.table(("archive", "release", "size", "needed by", "again"), rows, right=(2,))


def _name(item: Item) -> str:
    if len(item.files) == 1 and not item.is_waiting:
        return item.name
    return f"{item.name} ({len(item.files)} parts{', not all' if item.is_waiting else ''})"


def _warn_of_packs(found: Inventory) -> None:
    for folder in found.packs_gone:
        console.warn(f"the pack {folder} is missing; the archives it needs count as unneeded")


def _mend(folder: str) -> None:
    """Make the index anew where it is damaged, and say what became of it."""
    from rellum.core.actions.gather.mend_index import mend_index

    with console.progress() as listen:
        mended = mend_index(folder, listen)
    if mended is None:
        return
    files = console.count_text(mended.files, "file")
    console.warn(
        f"the index was damaged; rebuilt it with {files}; the damaged one is {shown_file(mended.damaged)}"
    )
    if mended.nameless:
        count = console.count_text(mended.nameless, "file")
        console.warn(
            f"{count} lost name and source; run 'rellum take' on the archive again if you need them"
        )
    for path in mended.left_out:
        console.warn(f"left out, not a complete archive: {shown_file(path)}")


def _check(opened: Shelf, *, as_json: bool) -> None:
    from rellum.core.actions.gather.shelf import check

    with console.progress() as listen:
        count, damaged = check(opened, listen)
    if as_json:
        console.say_json({"checked": count, "damaged": [_damaged(each) for each in damaged]})
    else:
        rows = [
            (
                "missing" if each.aside is None else "changed",
                each.entry.name,
                each.entry.origin.label or "unknown",
                shown_file(each.aside) if each.aside else "-",
            )
            for each in damaged
        ]
        if rows:
            console.table(("finding", "archive", "release", "set aside as"), rows)
            console.say(
                "They were removed from the shelf. Get them again with 'rellum fetch' or 'rellum take'."
            )
        files = console.count_text(count, "file")
        console.say(
            f"{files} hashed, {len(damaged) or 'all whole'}{' not whole' if damaged else ''}."
        )
    if damaged:
        raise typer.Exit(1)


def _trim(opened: Shelf, free: int | None, *, by_hand: bool, yes: bool, as_json: bool) -> None:
    from rellum.core.actions.gather.shelf import carry_out_trim, inventory, plan_trim

    found = inventory(opened)
    trim = plan_trim(found, free, by_hand=by_hand)
    if not as_json:
        _show_trim(found, trim, free)
    question = f"Free {console.bytes_text(trim.size)}?"
    if trim.size and console.confirm(question, yes=yes, what="this deletes archives"):
        carry_out_trim(opened, trim)
        if not as_json:
            console.say(f"Freed {console.bytes_text(trim.size)}.")
    if as_json:
        console.say_json({"freed": trim.size, "archives": [_item(item) for item in trim.items]})
    if free is not None and trim.size < free:
        raise typer.Exit(1)


def _show_trim(found: Inventory, trim: Trim, free: int | None) -> None:
    _warn_of_packs(found)
    if not trim.size:
        console.say("Nothing to free: every archive is needed by a pack.")
        return
    if trim.items:
        _table(trim.items)
    if trim.unfinished:
        console.say(f"and {console.count_text(len(trim.unfinished), 'unfinished download')}")
    if trim.lost:
        names = ", ".join(item.name for item in trim.lost)
        console.warn(
            f"'rellum fetch' cannot download these again; you would have to get them yourself: {names}"
        )
    if trim.missed:
        names = ", ".join(item.release or item.name for item in trim.missed)
        console.warn(
            f"packs need these; without them Rellum cannot repair, apply or rewind: {names}"
        )
    if any(item.needed_by and item.again == "fetch" for item in trim.items):
        console.warn("packs need some of these; 'rellum fetch' downloads them again")
    if free is not None and trim.size < free:
        console.warn(
            f"this is less than {console.bytes_text(free)}: what is left is needed and cannot be "
            "fetched again (--by-hand frees that, too)"
        )


def _bytes(text: str) -> int:
    found = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([kmgt]?b?)\s*", text.lower())
    unit = found[2] if found else ""
    unit = unit if unit.endswith("b") or not unit else unit + "b"
    if not found or unit not in _UNITS:
        raise console.BadCall(f"--free {text}: write a size like 500MB or 2GB")
    return int(float(found[1]) * _UNITS[unit])


def _document(found: Inventory) -> dict[str, Any]:
    return {
        "folder": found.folder,
        "size": found.size,
        "archives": [_item(item) for item in found.items],
        "unfinished": [{"path": path, "size": size} for path, size in found.unfinished],
        "packs_gone": list(found.packs_gone),
    }


def _item(item: Item) -> dict[str, Any]:
    return {
        "name": item.name,
        "release": item.release or None,
        "size": item.size,
        "files": [
            {"name": each.name, "size": each.size, "blake3": each.digest, "sha256": each.sha256}
            for each in item.files
        ],
        "needed_by": list(item.needed_by),
        "again": item.again,
        "complete": not item.is_waiting,
    }


def _damaged(damaged: Damaged) -> dict[str, Any]:
    return {
        "name": damaged.entry.name,
        "blake3": damaged.entry.digest,
        "release": damaged.entry.origin.label or None,
        "set_aside": damaged.aside,
    }
