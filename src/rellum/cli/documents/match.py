"""The documents of the commands that match releases."""

from __future__ import annotations

from typing import TypedDict

from rellum.cli.documents.shared import (
    GameDocument,
    ReleaseDocument,
    StatementDocument,
)


class WantDocument(TypedDict):
    mod: str
    range: str
    range_before: str | None
    is_optional: bool
    matching: list[str]


class WantsDocument(TypedDict):
    """``rellum want``."""

    wants: list[WantDocument]


class DropDocument(TypedDict):
    """``rellum drop``."""

    mod: str


class HeldDocument(TypedDict):
    """``rellum hold``."""

    mod: str
    version: str
    reason: str | None
    is_held: bool


class OptionDocument(TypedDict):
    group: str
    choices: list[str]


class ResolvedDocument(TypedDict):
    release: ReleaseDocument
    version_before: str | None
    needed_by: list[str]
    options: list[OptionDocument]
    rests_on: str | None
    files: list[str]


class ByHandNoteDocument(TypedDict):
    mod: str
    text: str


class ResolveDocument(TypedDict):
    """``rellum resolve``."""

    game: GameDocument
    changed: bool
    releases: list[ResolvedDocument]
    left_out: list[str]
    check_by_hand: list[ByHandNoteDocument]
    missing_files: list[str]


class WhyChangeDocument(TypedDict):
    mod: str
    version_before: str | None
    version: str | None


class WhyReleaseDocument(TypedDict):
    """``statements`` are empty, too, where they were not sought: ask for that version alone."""

    release: ReleaseDocument
    can_be_taken: bool
    brief: str
    changes: list[WhyChangeDocument]
    statements: list[StatementDocument]


class WhyDocument(TypedDict):
    """``rellum why``."""

    mod: str
    chosen: ReleaseDocument | None
    asked_by: list[StatementDocument]
    fixed_by: list[StatementDocument]
    releases: list[WhyReleaseDocument]


class NewsReleaseDocument(TypedDict):
    release: ReleaseDocument
    version_now: str
    can_be_taken: bool
    is_free: bool
    is_patch: bool
    bytes: int | None
    brief: str
    statements: list[StatementDocument]


class NewsDocument(TypedDict):
    """``rellum news``."""

    game_version: str
    releases: list[NewsReleaseDocument]


class LookDocument(TypedDict):
    mod: str
    version_now: str | None
    version_in_card: str
    version_published: str | None
    is_newer: bool
    is_from_cache: bool
    page: str
    fault: str | None


class LookedDocument(TypedDict):
    """``rellum news --look``."""

    mods: list[LookDocument]
    without_page: list[str]


class GiveUpDocument(TypedDict):
    mod: str
    statements: list[StatementDocument]


class OutlookVersionDocument(TypedDict):
    game_version: str
    is_now: bool
    is_worked_out: bool
    has_line_up: bool
    give_up: list[GiveUpDocument] | None


class OutlookCellDocument(TypedDict):
    game_version: str
    mod: str
    is_wanted: bool
    status: str
    release: ReleaseDocument | None
    trial: str | None


class OutlookDocument(TypedDict):
    """``rellum outlook``."""

    versions: list[OutlookVersionDocument]
    cells: list[OutlookCellDocument]
