"""What ``rellum shelf`` shows."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.core.values.paths import shown_file

if TYPE_CHECKING:
    from rellum.cli.documents.gather import DamagedDocument, ShelfDocument, ShelfItemDocument
    from rellum.cli.documents.shared import ReleaseDocument
    from rellum.core.actions.gather.shelf import Damaged, Inventory, Item, Trim
    from rellum.core.shelf.mend_index import Mended


_UNITS = {"": 1, "b": 1, "kb": 10**3, "mb": 10**6, "gb": 10**9, "tb": 10**12}


def show_table(items: tuple[Item, ...]) -> None:
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


def warn_of_packs(found: Inventory) -> None:
    for folder in found.packs_gone:
        console.warn(f"the pack {folder} is missing; the archives it needs count as unneeded")


def show_trim(found: Inventory, trim: Trim, free: int | None) -> None:
    warn_of_packs(found)
    if not trim.size:
        console.say("Nothing to free: every archive is needed by a pack.")
        return
    if trim.items:
        show_table(trim.items)
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


def bytes_of(text: str) -> int:
    found = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([kmgt]?b?)\s*", text.lower())
    unit = found[2] if found else ""
    unit = unit if unit.endswith("b") or not unit else unit + "b"
    if not found or unit not in _UNITS:
        raise console.BadCall(f"--free {text}: write a size like 500MB or 2GB")
    return int(float(found[1]) * _UNITS[unit])


def document(found: Inventory) -> ShelfDocument:
    return {
        "folder": found.folder,
        "bytes": found.size,
        "archives": [item_document(item) for item in found.items],
        "unfinished": [{"path": path, "bytes": size} for path, size in found.unfinished],
        "packs_gone": list(found.packs_gone),
    }


def item_document(item: Item) -> ShelfItemDocument:
    return {
        "name": item.name,
        "release": _release(item.release),
        "bytes": item.size,
        "files": [
            {"file": each.name, "bytes": each.size, "blake3": each.digest, "sha256": each.sha256}
            for each in item.files
        ],
        "needed_by": list(item.needed_by),
        "again": item.again,
        "is_complete": not item.is_waiting,
    }


def damaged_document(damaged: Damaged) -> DamagedDocument:
    return {
        "name": damaged.entry.name,
        "blake3": damaged.entry.digest,
        "release": _release(damaged.entry.origin.label),
        "set_aside": damaged.aside,
    }


def show_list(found: Inventory) -> None:
    """Show what lies on the shelf, and what of it is unfinished."""
    if found.items:
        show_table(found.items)
    archives = console.count_text(len(found.items), "archive")
    console.say(f"{archives}, {console.bytes_text(found.size)}, in {found.folder}")
    if found.unfinished:
        size = console.bytes_text(sum(size for _, size in found.unfinished))
        count = console.count_text(len(found.unfinished), "download")
        console.say(f"{count} unfinished, {size}: 'rellum fetch' resumes them.")
    warn_of_packs(found)


def tell_mended(mended: Mended) -> None:
    """Say what became of a damaged index."""
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


def show_checked(count: int, damaged: Sequence[Damaged]) -> None:
    """Show which archives are not whole any more."""
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
    console.say(f"{files} hashed, {len(damaged) or 'all whole'}{' not whole' if damaged else ''}.")


def _release(label: str) -> ReleaseDocument | None:
    """Return the release that a label like ``tides 3.2 (harbour)`` names; None for none."""
    from rellum.cli.documents.shared import release_of_mod

    mod, _, version = label.partition(" ")
    return release_of_mod(mod, version) if mod else None
