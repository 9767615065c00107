"""What a check finds, as plain values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from rellum.core.paths import PlacePath

if TYPE_CHECKING:
    from rellum.core.patching.container import MemberChange

DriftKind = Literal["changed", "missing", "foreign"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One difference between the folder and what Rellum last left there.

    ``owner`` is whose file it is: ``vanilla``, a release, or nobody for a foreign one. ``members`` are
    what is other in a container that Rellum made.
    """

    path: PlacePath
    kind: DriftKind
    owner: str
    detail: str
    has_original: bool
    members: tuple[MemberChange, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Drift:
    """All findings, and what was looked at to come to them.

    ``touched`` have another time but the same content; ``own_changes`` are the user's, and meant.
    """

    findings: tuple[Finding, ...]
    touched: tuple[PlacePath, ...]
    own_changes: tuple[PlacePath, ...]
    files_seen: int
    files_hashed: int
