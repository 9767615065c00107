"""The documents of the commands for what a curator does between two changes."""

from __future__ import annotations

from typing import TypedDict

from rellum.cli.documents.shared import (
    ChangeDocument,
    ReleaseDocument,
)


class BackupDocument(TypedDict):
    number: int
    name: str | None
    made_at: str
    made_before: str | None
    variant: str | None
    game_version: str
    releases: list[str]
    file_count: int
    bytes: int
    changed_count: int


class BackupMadeDocument(TypedDict):
    """``rellum backup``; ``backup`` is the newest where nothing changed, null where nothing is to be kept."""

    backup: BackupDocument | None
    is_new: bool
    in_use: list[str]


class BackupsDocument(TypedDict):
    """``rellum backup list``."""

    backups: list[BackupDocument]


class BackupFileDocument(TypedDict):
    path: str
    bytes: int
    blake3: str


class BackupShownDocument(TypedDict):
    """``rellum backup show``."""

    backup: BackupDocument
    files: list[BackupFileDocument]


class BackupComparedDocument(TypedDict):
    """``rellum backup compare``."""

    backup: BackupDocument
    other: BackupDocument | None
    new: list[str]
    changed: list[str]
    gone: list[str]


class BackupDamageDocument(TypedDict):
    path: str
    backup: int


class BackupCheckedDocument(TypedDict):
    """``rellum backup check``."""

    damaged: list[BackupDamageDocument]


class BackupDroppedDocument(TypedDict):
    """``rellum backup drop``."""

    backups: list[BackupDocument]
    freed_bytes: int


class BackupExportedDocument(TypedDict):
    """``rellum backup export``."""

    backup: BackupDocument
    file: str
    lost: list[str]


class BroughtBackDocument(ChangeDocument):
    """``rellum backup back`` and ``import``; ``kept_backup`` has what was there before."""

    backup: BackupDocument
    lost: list[str]
    newer: list[str]
    kept_backup: int | None


class OutdatedDocument(TypedDict):
    mod: str
    version: str
    loaded: str


class PlayDocument(TypedDict):
    """``rellum play``."""

    program: str
    variant: str
    game_version: str
    releases: list[ReleaseDocument]
    seconds: float
    exit_status: int | None
    outcome: str | None
    word: str | None
    log_line: str | None
    not_loaded: list[str]
    failed: list[str]
    outdated: list[OutdatedDocument]
    extra: list[str]
    trial: bool
    unrecorded: str | None
    good_checkpoint: int | None


class TrialDocument(TypedDict):
    """``rellum trial``."""

    outcome: str
    game_version: str
    date: str
    releases: list[ReleaseDocument]
    grafts: list[str]


class SuspectDocument(TypedDict):
    mod: str
    share: float


class HuntRoundDocument(TypedDict):
    """``rellum hunt`` while a question is open."""

    round_count: int
    mods: list[str]
    why: str
    at_most_more_count: int
    suspects: list[SuspectDocument]
    ended: None


class InsteadDocument(TypedDict):
    release: ReleaseDocument
    instead_of: ReleaseDocument


class HuntEndDocument(TypedDict):
    """``rellum hunt`` at its end."""

    round_count: int
    ended: str
    culprits: list[list[str]]
    proven: list[str]
    relations: list[str]
    works_without: list[str]
    resolve_would_choose: list[InsteadDocument]
    trial_count: int


class HuntStoppedDocument(TypedDict):
    """``rellum hunt --stop``; ``laid_again`` is false where the log could not be used."""

    ended: str
    laid_again: bool


class ReleaseChangeDocument(TypedDict):
    mod: str
    version_before: str | None
    version: str | None
    options: str | None


class PlayedDocument(TypedDict):
    at: str
    outcome: str | None
    word: str | None
    seconds: float
    exit_status: int | None


class HistoryEntryDocument(TypedDict):
    at: str
    action: str
    variant: str
    game_version: str
    game_version_before: str | None
    file_count: int
    change_count: int
    is_known: bool
    rewind_would_undo: bool
    releases: list[ReleaseChangeDocument]
    plays: list[PlayedDocument]


class HistoryDocument(TypedDict):
    """``rellum history``."""

    changes: list[HistoryEntryDocument]


class UseDocument(TypedDict):
    kind: str
    name: str
    file_count: int
    bytes: int


class ModSpaceDocument(TypedDict):
    mod: str
    file_count: int
    bytes: int


class WayDocument(TypedDict):
    name: str
    bytes: int
    cost: str


class SpaceDocument(TypedDict):
    """``rellum space``."""

    bytes: int
    free_bytes: int
    uses: list[UseDocument]
    mods: list[ModSpaceDocument]
    ways_to_free: list[WayDocument]
    figure: str | None


class FreedDocument(TypedDict):
    """``rellum space --free``."""

    done: bool
    freed_bytes: int
    is_enough: bool


class ReportDocument(TypedDict):
    """``rellum report``."""

    file: str
    bytes: int
