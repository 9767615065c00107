"""Rows of the state's tables as values, and values as rows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from rellum.core.hashing import Digest
from rellum.core.values.content import Content, Laid
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


LAID_MARKS = ", ".join("?" * 12)


_NOTHING = Content(digest=Digest(""), size=0, mode=0, mtime_ns=0)


def laid_of_row(row: Sequence[Any]) -> Laid:
    """Return what a row of the table ``laid`` says."""
    return Laid(
        path=PlacePath(row[0]),
        owner=row[1],
        content=_content(row[2:6]) if row[2] else None,
        under=None if row[6] is None else _content(row[6:10]),
        role=row[10],
        base=row[11],
    )


def laid_row(laid: Laid) -> tuple[object, ...]:
    """Return a laid file as a row of the table ``laid``."""
    content, under = laid.content or _NOTHING, laid.under
    row = (laid.path, laid.owner, content.digest, content.size, content.mode, content.mtime_ns)
    below = (
        (under.digest, under.size, under.mode, under.mtime_ns)
        if under
        else (None, None, None, None)
    )
    return (*row, *below, laid.role, laid.base)
