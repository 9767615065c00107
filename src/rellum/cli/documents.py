"""What the JSON documents of the commands hold, and the forms that they share.

Keys keep their names and meaning within a ``format``; new ones may come. A release, the game, sizes
(``bytes``), counts (``…_count``), times (RFC 3339 in UTC) and paths (place paths) have one form in all.
``tools/schemas.py`` makes the JSON Schemas of ``src/rellum/schemas`` from these types.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from rellum.core.folder.identity import Identity
    from rellum.core.values.ids import ReleaseName

FORMAT = 1
"""The ``format`` with which every document begins."""


class ReleaseDocument(TypedDict):
    """A release; ``build`` where there are several of one version."""

    mod: str
    version: str
    build: str | None


class GameDocument(TypedDict):
    """What a game is: the id of its sheet, version, edition where there are several, expansions."""

    sheet: str
    version: str
    edition: str | None
    expansions: list[str]


def release_document(name: ReleaseName) -> ReleaseDocument:
    """Return a release for programs."""
    return {"mod": name.mod, "version": name.version, "build": name.build or None}


def game_document(identity: Identity) -> GameDocument:
    """Return what a game is, for programs."""
    return {
        "sheet": identity.sheet,
        "version": identity.version.text,
        "edition": identity.edition,
        "expansions": list(identity.expansions),
    }


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


class StatusDocument(TypedDict):
    """``rellum status``."""

    pack: str
    pack_folder: str
    variant: str
    other_variants: list[str]
    game: GameDocument
    game_folder: str
    game_updated: bool
    drift_count: int
    line_up: str
    want_count: int
    mods: list[ReleaseStatusDocument]
    missing: list[MissingDocument]
    holds: list[HoldDocument]
    left_out: list[str]
    check_by_hand: list[ByHandDocument]
    good_checkpoint: int | None
    backup: int | None
    last_outcome: str | None
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
