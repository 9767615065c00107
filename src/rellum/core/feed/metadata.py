"""The signed metadata of a feed, as The Update Framework (specification 1.0) has it.

Root says which keys sign for what; targets which indexes there are; snapshot which targets; timestamp, the
only file that is ever written over, which snapshot is the newest. All but the timestamp are named by their
version.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from rellum.core.feed.feed_index import FeedFault

if TYPE_CHECKING:
    from securesystemslib.signer import CryptoSigner

TIMESTAMP_FILE: Final = "metadata/timestamp.json"
TIMESTAMP_DAYS: Final = 30
"""So long a timestamp is believed: a server that holds back what is new is noticed then."""
_LONG_DAYS: Final = 400
_MOST_TORRENT_BYTES: Final = 32 << 20
MOST_VERSIONS: Final = 50
"""So many of the newest versions can be followed; older ones leave the list."""


class DeltaOffer(NamedTuple):
    """A delta to a version: from which it leads, its object's BLAKE3 hash, its size, its first part's end."""

    version: int
    name: str
    size: int
    index_end: int


class TorrentOffer(NamedTuple):
    """A torrent of a version's objects: its own size and SHA-256 hash."""

    sha256: str
    size: int

    @property
    def file(self) -> str:
        """The name of its object."""
        return f"torrents/{self.sha256}.torrent"


class VersionEntry(NamedTuple):
    """A version in the list: the size and SHA-256 hash of its packed index, and of the index's own text."""

    version: int
    size: int
    sha256: str
    text_sha256: str
    deltas: tuple[DeltaOffer, ...] = ()
    torrent: TorrentOffer | None = None

    @property
    def target(self) -> str:
        """The name of its index among the targets."""
        return f"{self.version}.idx.zst"

    @property
    def file(self) -> str:
        """The name of its index's object: prefixed by its hash, as consistent snapshots have it."""
        return f"index/{self.sha256}.{self.target}"


def metadata_name(role: str, version: int) -> str:
    """Return the name of the object of a version of a role."""
    return f"metadata/{version}.{role}.json"


def make_root(curator: CryptoSigner, timestamp: CryptoSigner, now: datetime) -> bytes:
    """Return the first root metadata: one key for what the feed has, another for what is the newest."""
    from tuf.api.metadata import Metadata, Root

    root = Root(version=1, expires=_after(now, 10 * _LONG_DAYS), consistent_snapshot=True)
    for role in ("root", "targets", "snapshot"):
        root.add_key(curator.public_key, role)
    root.add_key(timestamp.public_key, "timestamp")
    return _signed(Metadata(root), curator)


def rotated_root(
    root: bytes, old: CryptoSigner, curator: CryptoSigner, timestamp: CryptoSigner, now: datetime
) -> bytes:
    """Return the next root metadata, with other keys: signed by the old curator's key and by the new one."""
    from tuf.api.metadata import Metadata, Root

    metadata = Metadata[Root].from_bytes(root)
    signed = metadata.signed
    signed.version += 1
    signed.expires = _after(now, 10 * _LONG_DAYS)
    for role in ("root", "targets", "snapshot", "timestamp"):
        for keyid in list(signed.roles[role].keyids):
            signed.revoke_key(keyid, role)
    for role in ("root", "targets", "snapshot"):
        signed.add_key(curator.public_key, role)
    signed.add_key(timestamp.public_key, "timestamp")
    metadata.signatures.clear()
    metadata.sign(old)
    return _signed(metadata, curator, append=True)


def make_targets(
    version: int, entries: list[VersionEntry], curator: CryptoSigner, now: datetime
) -> bytes:
    """Return the list of versions, as targets metadata."""
    from tuf.api.metadata import Metadata, TargetFile, Targets

    targets = {
        each.target: TargetFile(
            each.size,
            {"sha256": each.sha256},
            each.target,
            {"custom": _custom(each)},
        )
        for each in sorted(entries)[-MOST_VERSIONS:]
    }
    signed = Targets(version=version, expires=_after(now, _LONG_DAYS), targets=targets)
    return _signed(Metadata(signed), curator)


def _custom(entry: VersionEntry) -> dict[str, Any]:
    custom = {"text": entry.text_sha256, "deltas": [list(delta) for delta in entry.deltas]}
    return custom | ({"torrent": list(entry.torrent)} if entry.torrent else {})


def make_snapshot(version: int, targets: bytes, curator: CryptoSigner, now: datetime) -> bytes:
    """Return the snapshot that names a list of versions."""
    from tuf.api.metadata import Metadata, Snapshot

    meta = {"targets.json": _meta(version, targets)}
    return _signed(
        Metadata(Snapshot(version=version, expires=_after(now, _LONG_DAYS), meta=meta)), curator
    )


def make_timestamp(
    version: int, snapshot_version: int, snapshot: bytes, key: CryptoSigner, now: datetime
) -> bytes:
    """Return the timestamp that names a snapshot."""
    from tuf.api.metadata import Metadata, Timestamp

    signed = Timestamp(
        version=version,
        expires=_after(now, TIMESTAMP_DAYS),
        snapshot_meta=_meta(snapshot_version, snapshot),
    )
    return _signed(Metadata(signed), key)


def version_of(content: bytes) -> int:
    """Return the version of a metadata file. Raises FeedFault."""
    from tuf.api.exceptions import RepositoryError
    from tuf.api.metadata import Metadata

    try:
        return int(Metadata.from_bytes(content).signed.version)
    except (RepositoryError, ValueError, TypeError) as error:
        raise FeedFault(f"the feed's metadata cannot be read ({error})") from error


def read_entries(targets: bytes) -> dict[int, VersionEntry]:
    """Read the list of versions out of targets metadata that was verified. Raises FeedFault."""
    from tuf.api.metadata import Metadata, Targets

    signed = Metadata[Targets].from_bytes(targets).signed
    try:
        found = [_entry(name, each) for name, each in signed.targets.items()]
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise FeedFault(f"the feed's list of versions is damaged ({error})") from error
    return {each.version: each for each in found}


def _entry(name: str, target: Any) -> VersionEntry:
    custom: Mapping[str, Any] = target.unrecognized_fields["custom"]
    deltas = tuple(
        DeltaOffer(int(version), _hexadecimal(delta), int(size), int(end))
        for version, delta, size, end in custom["deltas"]
    )
    return VersionEntry(
        version=int(name.partition(".")[0]),
        size=target.length,
        sha256=_hexadecimal(target.hashes["sha256"]),
        text_sha256=_hexadecimal(custom["text"]),
        deltas=deltas,
        torrent=_torrent(*custom["torrent"]) if "torrent" in custom else None,
    )


def _torrent(sha256: object, size: object) -> TorrentOffer:
    if not isinstance(size, int) or not 0 < size <= _MOST_TORRENT_BYTES:
        raise ValueError(f"{size!r} is no size of a torrent")
    return TorrentOffer(_hexadecimal(sha256), size)


def _hexadecimal(text: object) -> str:
    if not isinstance(text, str) or len(text) != 64 or not set(text) <= set("0123456789abcdef"):
        raise ValueError(f"{text!r} is no hash")
    return text


def _meta(version: int, content: bytes) -> Any:
    from tuf.api.metadata import MetaFile

    return MetaFile(version, len(content), {"sha256": hashlib.sha256(content).hexdigest()})


def _after(now: datetime, days: int) -> datetime:
    return (now + timedelta(days=days)).replace(microsecond=0)


def _signed(metadata: Any, signer: CryptoSigner, *, append: bool = False) -> bytes:
    from tuf.api.serialization.json import JSONSerializer

    metadata.sign(signer, append=append)
    content: bytes = metadata.to_bytes(JSONSerializer(compact=True))
    return content


Now = Callable[[], datetime]


def now() -> datetime:
    """Return this moment, in UTC."""
    return datetime.now(UTC)
