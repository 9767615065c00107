"""The documents of the commands that gather archives and cards."""

from __future__ import annotations

from typing import NotRequired, TypedDict

from rellum.cli.documents.shared import (
    ReleaseDocument,
)


class LikelyDocument(TypedDict):
    release: str
    points: int
    traits: list[str]


class TakenDocument(TypedDict):
    path: str
    outcome: str
    release: ReleaseDocument | None
    known_by: str | None
    form: str | None
    bytes: int
    blake3: str | None
    encoding: str | None
    copy_count: int
    likely: list[LikelyDocument]
    reason: str | None
    details: list[str]


class TakeDocument(TypedDict):
    """``rellum take``."""

    archives: list[TakenDocument]


class NeededDocument(TypedDict):
    file: str
    release: ReleaseDocument
    bytes: int | None
    sha256: str | None
    addresses: list[str]
    page: str | None
    by_hand: str | None


class FetchedDocument(TypedDict):
    file: str
    outcome: str
    bytes: int
    blake3: str | None
    given_up: list[str]


class FetchFailedDocument(NeededDocument):
    reasons: list[str]


class FetchDocument(TypedDict):
    """``rellum fetch``."""

    here_before_count: int
    fetched: list[FetchedDocument]
    failed: list[FetchFailedDocument]
    by_hand: list[NeededDocument]


class FetchListDocument(TypedDict):
    """``rellum fetch --export``."""

    list: str
    files: list[NeededDocument]


class ShelfFileDocument(TypedDict):
    file: str
    bytes: int
    blake3: str
    sha256: str | None


class ShelfItemDocument(TypedDict):
    name: str
    release: ReleaseDocument | None
    bytes: int
    files: list[ShelfFileDocument]
    needed_by: list[str]
    again: str
    is_complete: bool


class UnfinishedDocument(TypedDict):
    path: str
    bytes: int


class ShelfDocument(TypedDict):
    """``rellum shelf list``."""

    folder: str
    bytes: int
    archives: list[ShelfItemDocument]
    unfinished: list[UnfinishedDocument]
    packs_gone: list[str]


class DamagedDocument(TypedDict):
    name: str
    blake3: str
    release: ReleaseDocument | None
    set_aside: str | None


class ShelfCheckDocument(TypedDict):
    """``rellum shelf check``."""

    checked_count: int
    damaged: list[DamagedDocument]


class ShelfTrimDocument(TypedDict):
    """``rellum shelf trim`` and ``drop``."""

    done: bool
    freed_bytes: int
    archives: list[ShelfItemDocument]


class PlaceRuleDocument(TypedDict):
    take: str
    to: str
    reason: str
    is_sure: bool
    replaces: list[str]


class AlternativeDocument(TypedDict):
    option: str
    above: str
    folders: list[str]


class SaidNeedDocument(TypedDict):
    id: str
    range: str


class SaysItselfDocument(TypedDict):
    file: str
    id: str
    version: str | None
    game: str | None
    needs: list[SaidNeedDocument]
    not_understood: list[str]


class DescribedFileDocument(TypedDict):
    file: str
    bytes: int | None
    sha256: str | None


class DescribeDocument(TypedDict):
    """``rellum describe FILE``."""

    id: str | None
    name: str | None
    version: str | None
    is_patch: bool
    known_as: str | None
    has_card: bool
    wrapper: str | None
    files: list[DescribedFileDocument]
    places: list[PlaceRuleDocument]
    alternatives: list[AlternativeDocument]
    left_out: list[str]
    says_itself: list[SaysItselfDocument]
    card: str


class DescribeSavedDocument(TypedDict):
    """``rellum describe FILE --save``."""

    mod: str
    version: str
    card: str
    is_new: bool
    was_there: bool
    open_line_count: int


class DescribedOneDocument(TypedDict):
    path: str
    outcome: str
    release: str | None
    card: str | None
    open_line_count: int
    needs_without_card: list[str]
    reason: str | None


class DescribeEachDocument(TypedDict):
    """``rellum describe FOLDER --each``."""

    downloads: list[DescribedOneDocument]


class VersionSignDocument(TypedDict):
    version: str
    file: str
    reason: str


class DescribeGameDocument(TypedDict):
    """``rellum describe --game FOLDER``."""

    sheet: str | None
    id: str
    name: str
    version: str | None
    versions: list[VersionSignDocument]
    marks: list[str]
    mods: str | None
    yours: list[str]
    written_by_game: list[str]
    self_descriptions: list[str]
    open_line_count: int
    text: NotRequired[str]


class VetDocument(TypedDict):
    """``rellum vet``."""

    catalogs: list[str]
    card_count: int
    release_count: int
    trial_count: int
    faults: list[str]
    notes: list[str]


class UpstreamDocument(TypedDict):
    """``rellum shelf upstream``."""

    upstream: str | None
