"""Rows of the state's tables as values, and values as rows."""

from collections.abc import Sequence
from typing import Any, NamedTuple

from rellum.core.hashing import Digest
from rellum.core.values.content import Content, Laid
from rellum.core.values.owners import owner_fields, owner_of
from rellum.core.values.paths import PlacePath


class BaselineEntry(NamedTuple):
    """One file, folder or link of the vanilla game; ``content`` only for files."""

    path: PlacePath
    kind: str
    content: Content | None
    target: str


def file_row(path: str, content: Content) -> str:
    """Return a file's row in the stamp of its folder."""
    return f"{path.rpartition('/')[2]}/{content.size}/{content.mtime_ns}"


def row_of(entry: BaselineEntry) -> str | None:
    """Return a vanilla entry's row in the stamp of its folder."""
    if entry.content:
        return file_row(entry.path, entry.content)
    name = entry.path.rpartition("/")[2]
    return f"{name}/" if entry.kind == "folder" else f"{name}//{entry.target}"


def _content(values: Sequence[Any]) -> Content:
    digest, size, mode, mtime_ns = values
    return Content(digest=Digest(digest), size=size, mode=mode, mtime_ns=mtime_ns)


def baseline_entry(row: Sequence[Any]) -> BaselineEntry:
    """Return what a row of the table ``baseline`` says."""
    path, kind, size, digest, mode, mtime_ns, target = row
    content = _content((digest, size, mode, mtime_ns)) if kind == "file" else None
    return BaselineEntry(path=PlacePath(path), kind=kind, content=content, target=target)


IDENTITY_COLUMNS = "sheet, name, version, edition, expansions, evidence"
"""What the table ``adopted`` and a checkpoint say of the game, in this order."""

LAID_MARKS = ", ".join("?" * 15)

LAID_UNDER, LAID_BASE = 9, 14
"""Where the hash of what lies under a file, and of what its release wanted, stand in a row of ``laid``."""


_NOTHING = Content(digest=Digest(""), size=0, mode=0, mtime_ns=0)


def laid_of_row(row: Sequence[Any]) -> Laid:
    """Return what a row of the table ``laid`` says."""
    return Laid(
        path=PlacePath(row[0]),
        owner=owner_of(row[1:5]),
        content=_content(row[5:9]) if row[5] else None,
        under=None if row[LAID_UNDER] is None else _content(row[LAID_UNDER : LAID_UNDER + 4]),
        role=row[13],
        base=row[LAID_BASE],
    )


def laid_row(laid: Laid) -> tuple[object, ...]:
    """Return a laid file as a row of the table ``laid``."""
    content, under = laid.content or _NOTHING, laid.under
    file = (content.digest, content.size, content.mode, content.mtime_ns)
    below = (
        (under.digest, under.size, under.mode, under.mtime_ns)
        if under
        else (None, None, None, None)
    )
    return (laid.path, *owner_fields(laid.owner), *file, *below, laid.role, laid.base)
