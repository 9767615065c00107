"""The documents of the commands that look at and change the game."""

from __future__ import annotations

from typing import TypedDict

from rellum.cli.documents.shared import (
    ChangeDocument,
    GameDocument,
    LeftAloneDocument,
    OperationDocument,
    OwnerDocument,
    ReleaseDocument,
)


class ReleaseStatusDocument(TypedDict):
    mod: str
    laid: ReleaseDocument | None
    chosen: ReleaseDocument | None
    since: str | None
    needed_by: list[str]


class MissingDocument(TypedDict):
    release: ReleaseDocument
    file: str
    bytes: int | None


class HoldDocument(TypedDict):
    mod: str
    version: str
    reason: str


class ByHandDocument(TypedDict):
    release: ReleaseDocument
    text: str


class NextDocument(TypedDict):
    command: str
    why: str


class DriftCountsDocument(TypedDict):
    """How many paths are not as Rellum left them, by what is with them."""

    changed: int
    missing: int
    foreign: int


class GoodCheckpointDocument(TypedDict):
    number: int
    name: str | None
    made_at: str


class NewestBackupDocument(TypedDict):
    number: int
    made_at: str


class LastPlayDocument(TypedDict):
    """How the game last ran since the last change; ``outcome`` is works, breaks, or null."""

    at: str
    outcome: str | None
    word: str | None


class FollowedFeedDocument(TypedDict):
    """The feed that the pack follows, and the version of it that is here."""

    address: str
    version: int


class UnfitDocument(TypedDict):
    """A release of the line-up that its card of today rules out for this game, and what the card says."""

    release: str
    says: str


class StatusDocument(TypedDict):
    """``rellum status``."""

    pack: str
    pack_folder: str
    feed: FollowedFeedDocument | None
    variant: str
    other_variants: list[str]
    game: GameDocument
    game_name: str
    game_folder: str
    game_updated: bool
    drift_count: int
    drift_by_kind: DriftCountsDocument
    missing_original_count: int
    line_up: str
    want_count: int
    mods: list[ReleaseStatusDocument]
    missing: list[MissingDocument]
    holds: list[HoldDocument]
    left_out: list[str]
    check_by_hand: list[ByHandDocument]
    good_checkpoint: GoodCheckpointDocument | None
    backup: NewestBackupDocument | None
    last_play: LastPlayDocument | None
    unfit: list[UnfitDocument]
    is_hunting: bool
    free_bytes: int
    next: NextDocument | None


class SidesDocument(TypedDict):
    mod: str
    first: str | None
    second: str | None


class FileDifferenceDocument(TypedDict):
    path: str
    difference: str


class CompareDocument(TypedDict):
    """``rellum compare``; ``settings`` and ``files`` are null where a side does not tell of them."""

    first: str
    second: str
    releases: list[SidesDocument]
    options: list[SidesDocument]
    settings: list[FileDifferenceDocument] | None
    files: list[FileDifferenceDocument] | None


class ListedDocument(TypedDict):
    mod: str
    name: str
    kind: str | None
    release: ReleaseDocument | None
    waits_for: ReleaseDocument | None
    goes: bool
    since: str | None
    needed_by: list[str]
    page: str | None
    licence: str | None
    check_by_hand: list[str]


class ListDocument(TypedDict):
    """``rellum list``."""

    mods: list[ListedDocument]


class CatalogModDocument(TypedDict):
    mod: str
    name: str
    kind: str
    newest: ReleaseDocument | None
    game: str | None
    release_count: int
    licence: str | None
    laid: ReleaseDocument | None
    is_wanted: bool


class CatalogListDocument(TypedDict):
    """``rellum list --catalog``."""

    catalog: list[CatalogModDocument]


class SettingConflictDocument(TypedDict):
    key: str
    mine: str | None
    theirs: str | None


class SettingsDocument(TypedDict):
    path: str
    owner: str
    side: str | None
    conflicts: list[SettingConflictDocument]


class SameNameDocument(TypedDict):
    archive: str
    folder: str
    to: str
    depth: str | None


class ShapeDocument(TypedDict):
    graft: str
    provided: list[str]
    extra: list[str]
    missing: list[str]


class GameUpdateDocument(TypedDict):
    version_before: str
    version: str
    changed: list[str]
    new: list[str]
    gone: list[str]
    overwritten: list[str]
    lacking: list[str]
    beside: list[str]


class NoteDocument(TypedDict):
    owner: str
    text: str


class BrokenSavesDocument(TypedDict):
    mod: str
    version_before: str | None
    version: str | None
    opens_back: bool


class HiddenDocument(TypedDict):
    owner: OwnerDocument | None
    file_count: int


class PlaceDocument(TypedDict):
    place: str
    folder: str


class PreviewDocument(TypedDict):
    """``rellum preview``."""

    operations: list[OperationDocument]
    left_alone: list[LeftAloneDocument]
    needed_bytes: int
    free_bytes: int
    line_up_made_anew: bool
    game_update: GameUpdateDocument | None
    hidden: list[HiddenDocument]
    new_places: list[PlaceDocument]
    check_by_hand: list[NoteDocument]
    notes: list[NoteDocument]
    broken_saves: list[BrokenSavesDocument]
    leftovers: list[str]
    grafts: list[ShapeDocument]
    settings: list[SettingsDocument]
    same_names: list[SameNameDocument]


class ApplyDocument(ChangeDocument):
    """``rellum apply``: ``releases`` is what is in the game now, in load order."""

    releases: list[ReleaseDocument]
    game_version: str
    swept_to: str | None


class ConflictDocument(TypedDict):
    path: str
    mods: list[str]
    winner: str
    decided_by: str
    same_content: bool
    edited_by: list[str]


class ShareDocument(TypedDict):
    mod: str
    file_count: int
    hidden_count: int


class ConflictsDocument(TypedDict):
    """``rellum conflicts``."""

    conflicts: list[ConflictDocument]
    mods: list[ShareDocument]


class VariantDocument(TypedDict):
    name: str
    in_use: bool
    want_count: int
    release_count: int | None
    last_used: str | None
    pack_folder: str | None


class VariantsDocument(TypedDict):
    """``rellum variant list``."""

    variants: list[VariantDocument]


class VariantChangedDocument(TypedDict):
    """``rellum variant new``, ``drop`` and ``rename``."""

    done: bool
    variant: str
    name_before: str | None
    game_folder: str | None
    pack_folder: str | None


class SwitchDocument(ChangeDocument):
    """``rellum variant use``."""

    variant: str
    variant_before: str | None
    backup: int | None


class DecisionDocument(TypedDict):
    kind: str
    key: str | None
    value: str


class DecisionsDocument(TypedDict):
    """``rellum decide``."""

    decisions: list[DecisionDocument]


class DecidedDocument(TypedDict):
    """``rellum decide WHAT``."""

    decision: DecisionDocument
    is_decided: bool


class GraftDocument(TypedDict):
    name: str
    donor: str
    take: str
    slot: str


class GraftsDocument(TypedDict):
    """``rellum graft``: all grafts of the pack."""

    grafts: list[GraftDocument]
