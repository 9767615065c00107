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


class OnlyNamedDocument(TypedDict):
    """An archive that is not in the feed, and why; ``can_be_had``: its card says where."""

    mod: str
    file: str
    why: str
    can_be_had: bool


class WrittenDocument(TypedDict):
    """A file that was written beside the feed."""

    file: str
    bytes: int


class ListsDocument(TypedDict):
    """``rellum publish --bill`` (``--sums``, ``--page``) without a feed."""

    files: list[WrittenDocument]


class PublishedDocument(TypedDict):
    """``rellum publish``; ``is_new`` is false where the newest version has the same.

    ``torrent`` is the torrent of the version, by its name in the feed.
    """

    address: str
    version: int
    is_new: bool
    fingerprint: str
    line_up_fingerprint: str
    tree_fingerprint: str
    release_count: int
    file_count: int
    content_bytes: int
    written_bytes: int
    updates_from: list[int]
    torrent: str | None
    files: list[WrittenDocument]
    only_named: list[OnlyNamedDocument]


class RenewedDocument(TypedDict):
    """``rellum publish --renew``; ``renewed`` is the version that stays the newest."""

    address: str
    renewed: int


class RotatedDocument(TypedDict):
    """``rellum publish --new-keys``."""

    address: str
    key_folder: str
    root_version: int


class FollowedDocument(TypedDict):
    """``rellum follow``; ``is_exact``: the line-up is the feed's own. ``facts`` are what its curator says.

    ``swarm_bytes`` are those received bytes that came from other players or the torrent's web seed.
    """

    address: str
    fingerprint: str
    version: int
    version_before: int | None
    facts: dict[str, str]
    is_new_pack: bool
    is_exact: bool
    conflicts: list[str]
    received_bytes: int
    swarm_bytes: int
    request_count: int
    archive_count: int
    failed: list[str]
    by_hand: list[str]
    done: bool
    changed_count: int


class ProofDocument(TypedDict):
    """``rellum check --against``; ``differing`` are files of the curator's mods that are not as laid."""

    is_same: bool
    is_curators: bool
    version: int
    version_here: int | None
    line_up_fingerprint: str
    tree_fingerprint: str
    feed_line_up_fingerprint: str
    feed_tree_fingerprint: str
    differing: list[str]
    own_mods: list[ReleaseDocument]
    foreign: list[str]
    vanilla_changed: list[str]
    own_changes: list[str]
    hashed_count: int
