"""The documents of the commands that share a pack."""

from __future__ import annotations

from typing import TypedDict

from rellum.cli.documents.shared import ReleaseDocument


class ContentChangesDocument(TypedDict):
    """What is other than in the release ``since``, by the names in the archive."""

    since: str
    new: list[str]
    changed: list[str]
    gone: list[str]


class PressedPatchDocument(TypedDict):
    file: str
    bytes: int
    over: str
    removed_count: int
    whole_count: int
    delta_count: int


class PressedDocument(TypedDict):
    """``rellum press``; ``lays`` and ``replaces`` are empty while lines of the card must be decided."""

    release: ReleaseDocument
    file: str
    bytes: int
    sha256: str
    member_count: int
    left_out: list[str]
    wrapper: str | None
    raised_from: str | None
    is_fresh: bool
    licence: str | None
    card: str
    is_new_card: bool
    open_line_count: int
    changes: ContentChangesDocument | None
    lays: list[str]
    replaces: list[str]
    patch: PressedPatchDocument | None


class WorkingCopyDocument(TypedDict):
    """``rellum press --from-installed``."""

    release: ReleaseDocument
    folder: str
    file_count: int
    from_archive: bool
    edited_count: int
