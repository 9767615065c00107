"""Writing a version of a feed: what nobody has yet is added, and the newest is pointed to last.

In this order: packs, deltas, index, torrent, targets, snapshot, timestamp. So a player who reads meanwhile
sees the version before, whole; a publication that breaks off leaves objects that the next one finds and uses.
"""

from __future__ import annotations

import hashlib
import json
import os
import tempfile
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from datetime import datetime
from typing import TYPE_CHECKING, Final, NamedTuple

from rellum.core.durable import write_in_one
from rellum.core.feed.bringing import Found, bring_contents
from rellum.core.feed.delta import Sides, write_delta
from rellum.core.feed.feed_index import FeedFault, Index, index_text, pack_text, read_index
from rellum.core.feed.feed_keys import KeyFault, sayable_root
from rellum.core.feed.matching import Named
from rellum.core.feed.metadata import (
    TIMESTAMP_FILE,
    DeltaOffer,
    TorrentOffer,
    VersionEntry,
    make_root,
    make_snapshot,
    make_targets,
    make_timestamp,
    metadata_name,
    rotated_root,
    version_of,
)
from rellum.core.feed.packing import Source, write_packs
from rellum.core.feed.reading import FeedReader, NotInFeed
from rellum.core.feed.storing import FeedStore, FolderStore
from rellum.core.feed.torrents import objects_of
from rellum.core.feed.trusting import Believed, believe, read_index_text
from rellum.core.hashing import Digest, hash_bytes, hash_file

if TYPE_CHECKING:
    from securesystemslib.signer import CryptoSigner

DELTAS_FROM: Final = 4
"""From so many of the last versions a delta leads to the newest one."""
_MOST_METADATA: Final = 1 << 20
_LAST: Final = "last.json"


class Signers(NamedTuple):
    """What a feed is signed with."""

    curator: CryptoSigner
    timestamp: CryptoSigner


class Published(NamedTuple):
    """A version that was published, or was there already. Sizes in bytes: of all its content, and as written.

    ``deltas`` are the versions from which a delta leads to it; ``torrent`` is the name of its torrent.
    """

    version: int
    is_new: bool
    fingerprint: str
    file_count: int
    content_bytes: int
    written_bytes: int
    deltas: tuple[int, ...]
    torrent: str | None = None


TorrentMaker = Callable[[Sequence[str]], bytes]
"""Makes a torrent of objects, by their names."""


class _Counting:
    """A store that counts the bytes that are new in it."""

    def __init__(self, store: FeedStore) -> None:
        self.store = store
        self.written = 0

    def put(self, name: str, content: bytes) -> None:
        self.store.put(name, content)
        self.written += len(content)


def publish_version(
    store: FeedStore,
    signers: Signers,
    sources: Sequence[Source],
    facts: Mapping[str, str],
    kept: str,
    now: Callable[[], datetime],
    *,
    takes_over: bool = False,
    torrent_of: TorrentMaker | None = None,
) -> Published:
    """Publish these files as the next version, unless the newest has the same.

    ``kept`` is a folder in which what was published is remembered. ``takes_over``: a version that somebody
    began and did not finish is passed over. ``torrent_of`` makes a torrent of the version's objects. Raises
    KeyFault, AlreadyPublished, FeedFault, OSError.
    """
    if isinstance(store, FolderStore):
        store.tidy()
    reader = store.reader()
    before = _published(reader, signers, kept)
    counting = _Counting(store)
    if before is None:
        root = make_root(signers.curator, signers.timestamp, now())
        store.claim(metadata_name("root", 1), root)
        entries: dict[int, VersionEntry] = {}
        last, mark = None, sayable_root(root)
    else:
        entries, mark = before.versions, before.fingerprint
        text = read_index_text(reader, before.newest)
        last = read_index(text, before.newest.version)
        if {(each.path, each.digest) for each in last.files} == {
            (s.path, s.digest) for s in sources
        }:
            size = sum(each.size for each in last.files)
            deltas = tuple(each.version for each in before.newest.deltas)
            torrent = before.newest.torrent
            there = torrent.file if torrent else None
            return Published(last.version, False, mark, len(last.files), size, 0, deltas, there)
    version = max(max(entries, default=0), _snapshot_number(reader) if before else 0) + 1
    while takes_over and _is_there(reader, metadata_name("snapshot", version)):
        version += 1
    packs, files = write_packs(sources, last, counting.put)
    index = Index(version, facts, tuple(packs), tuple(files))
    text = index_text(index)
    packed = pack_text(text)
    offers = [
        offer
        for each in sorted(entries, reverse=True)[:DELTAS_FROM]
        if (offer := _offer(reader, entries[each], index, text, sources, counting))
    ]
    entry = VersionEntry(
        version, len(packed), _sha256(packed), _sha256(text), tuple(sorted(offers))
    )
    counting.put(entry.file, packed)
    if torrent_of:
        content = torrent_of(sorted(objects_of(entry, index)))
        torrent = TorrentOffer(_sha256(content), len(content))
        counting.put(torrent.file, content)
        entry = entry._replace(torrent=torrent)
    _sign(store, signers, [*entries.values(), entry], now)
    return Published(
        version=version,
        is_new=True,
        fingerprint=mark,
        file_count=len(files),
        content_bytes=sum(each.size for each in files),
        written_bytes=counting.written,
        deltas=tuple(each.version for each in sorted(offers)),
        torrent=entry.torrent.file if entry.torrent else None,
    )


def content_mark(sources: Sequence[Source]) -> str:
    """Return a hash over all that is to be published."""
    said = "\n".join(sorted(f"{each.path}/{each.digest}" for each in sources))
    return hash_bytes(said.encode("utf-8", "surrogateescape"))


def remember(kept: str, store: FeedStore, sources: Sequence[Source], published: Published) -> None:
    """Note what was published, and how the feed's newest word stands since. Raises FeedFault, OSError."""
    word = hash_bytes(store.reader().read(TIMESTAMP_FILE, _MOST_METADATA))
    said = json.dumps([word, content_mark(sources), published])
    os.makedirs(kept, exist_ok=True)
    write_in_one(os.path.join(kept, _LAST), said.encode("ascii"))


def published_before(kept: str, store: FeedStore, sources: Sequence[Source]) -> Published | None:
    """Return what was published last, if it was the same and nobody published since.

    So no key is needed to find that there is nothing new. Raises FeedUnreachable.
    """
    try:
        with open(os.path.join(kept, _LAST), encoding="ascii") as file:
            word, mark, said = json.load(file)
        if mark != content_mark(sources):
            return None
        if hash_bytes(store.reader().read(TIMESTAMP_FILE, _MOST_METADATA)) != word:
            return None
        last = Published(*said)
        return last._replace(is_new=False, written_bytes=0, deltas=tuple(last.deltas))
    except (OSError, ValueError, TypeError, NotInFeed):
        return None


def renew(store: FeedStore, timestamp: CryptoSigner, now: Callable[[], datetime]) -> int:
    """Say once more that the newest version is the newest; return the number of the snapshot.

    Raises FeedFault, OSError.
    """
    reader = store.reader()
    old = reader.read(TIMESTAMP_FILE, _MOST_METADATA)
    from tuf.api.metadata import Metadata, Timestamp

    signed = Metadata[Timestamp].from_bytes(old).signed
    number = int(signed.snapshot_meta.version)
    snapshot = reader.read(metadata_name("snapshot", number), _MOST_METADATA)
    content = make_timestamp(signed.version + 1, number, snapshot, timestamp, now())
    store.replace(TIMESTAMP_FILE, content)
    return number


def rotate(
    store: FeedStore, old: CryptoSigner, signers: Signers, kept: str, now: Callable[[], datetime]
) -> int:
    """Let other keys sign from now on, by the word of the old curator's key; return the root's version.

    All that the feed says is signed anew. Raises KeyFault, NotInFeed, FeedFault, AlreadyPublished, OSError.
    """
    reader = store.reader()
    before = _published(reader, Signers(old, signers.timestamp), kept)
    if before is None:
        raise NotInFeed("there is no feed yet", hint="Publish first: rellum publish FEED --keys")
    number, root = _newest_root(reader)
    content = rotated_root(root, old, signers.curator, signers.timestamp, now())
    store.claim(metadata_name("root", number + 1), content)
    _sign(store, signers, list(before.versions.values()), now, resigns=True)
    return number + 1


def _snapshot_number(reader: FeedReader) -> int:
    """Return the number of the newest snapshot; other keys may have signed one that is no version."""
    from tuf.api.metadata import Metadata, Timestamp

    content = reader.read(TIMESTAMP_FILE, _MOST_METADATA)
    return int(Metadata[Timestamp].from_bytes(content).signed.snapshot_meta.version)


def _newest_root(reader: FeedReader) -> tuple[int, bytes]:
    """Return the version and text of the newest root metadata. Raises NotInFeed."""
    number, found = 1, reader.read(metadata_name("root", 1), _MOST_METADATA)
    while True:
        try:
            found = reader.read(metadata_name("root", number + 1), _MOST_METADATA)
        except NotInFeed:
            return number, found
        number += 1


def _is_there(reader: FeedReader, name: str) -> bool:
    try:
        reader.read(name, _MOST_METADATA)
    except NotInFeed:
        return False
    return True


def _published(reader: FeedReader, signers: Signers, kept: str) -> Believed | None:
    """Return what was published before; None where there is no feed yet. Raises KeyFault, FeedFault."""
    from tuf.api.metadata import Metadata, Root

    try:
        _, root = _newest_root(reader)
        reader.read(TIMESTAMP_FILE, _MOST_METADATA)
    except NotInFeed:
        return None
    keys = Metadata[Root].from_bytes(root).signed.keys
    first = reader.read(metadata_name("root", 1), _MOST_METADATA)
    if signers.curator.public_key.keyid not in keys:
        raise KeyFault(
            "the feed there is signed by other keys",
            hint="Name the folder of its keys, or publish to another place.",
        )
    return believe(reader, os.path.join(kept, sayable_root(first)), lambda _: True)


def _offer(
    reader: FeedReader,
    entry: VersionEntry,
    index: Index,
    text: bytes,
    sources: Sequence[Source],
    counting: _Counting,
) -> DeltaOffer | None:
    """Write the delta from an older version; None where it is no shorter way. Raises OSError."""
    with tempfile.TemporaryDirectory(prefix="rellum-") as work:
        try:
            before = read_index_text(reader, entry)
            old_index = read_index(before, entry.version)
            old = _old_contents(reader, old_index, index, sources, before, work)
        except FeedFault:  # what it needs was trimmed
            return None
        known = old_index.by_digest
        fresh = {each.digest: each for each in sources if each.digest not in known}
        new = [Named(each.path, each.digest, each.file) for each in sorted(fresh.values())]
        sides = Sides.of(known, index.by_digest)
        file = os.path.join(work, "delta")
        with open(file, "wb") as out:
            head = write_delta(sides, old, new, before, text, out)
        size = os.path.getsize(file)
        name = hash_file(file)
        with open(file, "rb") as stream:
            counting.put(f"deltas/{name}.delta", stream.read())
        return DeltaOffer(entry.version, name, size, head.index_end)


def _old_contents(
    reader: FeedReader,
    old: Index,
    new: Index,
    sources: Sequence[Source],
    text: bytes,
    work: str,
) -> list[Named]:
    """Return the contents of an old version that a delta may draw on: those that left, and their like."""
    here = {each.digest: each.file for each in sources}
    gone = {each.digest: each for each in old.files if each.digest not in new.by_digest}
    folder = os.path.join(work, "old")
    os.makedirs(folder)

    def target_of(digest: Digest) -> str:
        return os.path.join(folder, digest)

    bring_contents(
        reader, Found(text, old, None, b""), None, {}, gone.keys() - here.keys(), target_of
    )
    return [
        Named(each.path, digest, here.get(digest) or target_of(digest))
        for digest, each in gone.items()
    ]


def _sign(
    store: FeedStore,
    signers: Signers,
    entries: list[VersionEntry],
    now: Callable[[], datetime],
    *,
    resigns: bool = False,
) -> None:
    """Write targets, snapshot and timestamp, the last one last. Raises AlreadyPublished, OSError.

    ``resigns``: it is what was said before, by other keys; its number is one that no version has yet.
    """
    version = max(each.version for each in entries)
    while resigns and _is_there(store.reader(), metadata_name("snapshot", version)):
        version += 1
    targets = make_targets(version, entries, signers.curator, now())
    snapshot = make_snapshot(version, targets, signers.curator, now())
    number = 1
    with suppress(NotInFeed):
        number = version_of(store.reader().read(TIMESTAMP_FILE, _MOST_METADATA)) + 1
    timestamp = make_timestamp(number, version, snapshot, signers.timestamp, now())
    store.claim(metadata_name("snapshot", version), snapshot)
    store.replace(metadata_name("targets", version), targets)
    store.replace(TIMESTAMP_FILE, timestamp)


def _sha256(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()
