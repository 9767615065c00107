"""The documents of the commands for when something breaks."""

from __future__ import annotations

from typing import TypedDict

from rellum.cli.documents.set_up import FindingDocument
from rellum.cli.documents.shared import (
    ChangeDocument,
    LeftAloneDocument,
    OwnerDocument,
    ReleaseDocument,
)


class UpdateDocument(TypedDict):
    version: str | None
    file_count: int
    told_by: str
    still_as_before_count: int


class GuardStateDocument(TypedDict):
    file_count: int
    broken: list[str]


class CheckDocument(TypedDict):
    """``rellum check``."""

    findings: list[FindingDocument]
    touched: list[str]
    own_changes: list[str]
    missing_originals: list[str]
    damaged_originals: list[str]
    update: UpdateDocument | None
    guard: GuardStateDocument | None
    seen_count: int
    hashed_count: int


class RestoreDocument(ChangeDocument):
    """``rellum restore``; ``foreign`` and ``yours`` are files that stay as they are."""

    foreign: list[str]
    yours: list[str]


class MendedDocument(TypedDict):
    """``rellum restore --interrupted``."""

    done: bool
    lost_count: int | None
    left: list[str]
    unknown: list[str]
    rescued_to: str | None
    repair: RestoreDocument | None


class CheckpointDocument(TypedDict):
    number: int
    name: str | None
    is_good: bool
    made_at: str
    game_version: str
    ended_by: str | None
    file_count: int


class CheckpointsDocument(TypedDict):
    """``rellum checkpoint --list``."""

    checkpoints: list[CheckpointDocument]


class CheckpointMadeDocument(TypedDict):
    """``rellum checkpoint``, and ``--forget``."""

    checkpoint: CheckpointDocument
    drifted: list[str]


class RewindDocument(ChangeDocument):
    """``rellum rewind``; ``texts`` are the pack's files that are as they were then."""

    checkpoint: CheckpointDocument
    texts: list[str]


class SweepDocument(TypedDict):
    name: str
    folder: str
    files: list[str]


class SweepsDocument(TypedDict):
    """``rellum sweep --list``."""

    sweeps: list[SweepDocument]


class SweptDocument(TypedDict):
    """``rellum sweep``."""

    done: bool
    folder: str | None
    files: list[str]
    left: list[LeftAloneDocument]


class SweepBackDocument(TypedDict):
    """``rellum sweep --back``."""

    files: list[str]
    stay_out: list[str]


class KeptDocument(TypedDict):
    number: int
    path: str
    bytes: int
    blake3: str
    kept_at: str
    owner: OwnerDocument | None
    comes_back_with: str | None
    kept_by: str | None
    is_there: bool


class KeptListDocument(TypedDict):
    """``rellum kept list``."""

    kept: list[KeptDocument]
    swept: list[SweepDocument]


class KeptDoneDocument(TypedDict):
    """``rellum kept back``, ``out`` and ``drop``: the paths that the copies belong to, or were written to."""

    done: bool
    paths: list[str]


class AbsorbedDocument(TypedDict):
    """``rellum absorb``; ``lacking`` are vanilla files that have no original here."""

    done: bool
    release: ReleaseDocument
    file_count: int
    lacking: list[str]


class AbsorbBegunDocument(TypedDict):
    """``rellum absorb --begin``."""

    file_count: int
    bytes: int


class GuardDocument(TypedDict):
    """``rellum guard``."""

    is_on: bool
    files: list[str]
