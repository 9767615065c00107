"""The documents of the commands that set a pack up."""

from __future__ import annotations

from typing import TypedDict

from rellum.cli.documents.shared import (
    GameDocument,
    OwnerDocument,
)


class FindingMemberDocument(TypedDict):
    member: str
    finding: str


class FindingDocument(TypedDict):
    path: str
    finding: str
    cause: str | None
    owner: OwnerDocument | None
    detail: str
    has_original: bool
    members: list[FindingMemberDocument]


class LikenessDocument(TypedDict):
    what: str
    paths: list[str]


class AdoptDocument(TypedDict):
    """``rellum adopt``."""

    game: GameDocument
    evidence: list[str]
    game_folder: str
    pack_folder: str
    file_count: int
    bytes: int
    warnings: list[str]
    places: list[AdoptedPlaceDocument]
    known_baseline: str | None
    findings: list[FindingDocument]
    looks_like: list[LikenessDocument]


class AdoptedPlaceDocument(TypedDict):
    place: str
    folder: str


class RebuiltDocument(TypedDict):
    """``rellum adopt --rebuild``."""

    laid_count: int
    unsure: list[str]
    damaged_state: str | None
    rescued_to: str | None
    rescued_count: int


class BaselineDocument(TypedDict):
    version: str
    edition: str | None
    expansions: list[str]
    matching_count: int
    differing: list[str]
    missing: list[str]
    beside: list[str]


class IdentifyDocument(TypedDict):
    """``rellum identify``; ``game`` is null where the version cannot be told."""

    folder: str
    game: GameDocument | None
    evidence: list[str]
    file_count: int
    bytes: int
    baselines: list[BaselineDocument]
    nearest: BaselineDocument | None
    written: str | None


class PartDocument(TypedDict):
    part: str
    file_count: int
    laid_over_count: int


class AssembleDocument(TypedDict):
    """``rellum assemble``."""

    folder: str
    version: str | None
    edition: str | None
    file_count: int
    bytes: int
    parts: list[PartDocument]
    left_behind: list[str]


class DemoDocument(TypedDict):
    """``rellum demo``."""

    done: bool
    folder: str
    pack_folder: str


class GuideDocument(TypedDict):
    """``rellum guide``: a page in Markdown."""

    page: str
    text: str


class PagesDocument(TypedDict):
    """``rellum guide --list``."""

    pages: list[str]


class CompletionDocument(TypedDict):
    """``rellum completion``."""

    shell: str
    text: str
