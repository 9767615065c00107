"""Reading a feed's large objects from other players and the web seed at once, by libtorrent.

Pieces are checked by the torrent's hashes, whose own hash is signed; what the feed's index says of contents
is checked after that as always. Where nothing comes, the feed's server is asked as if there were no swarm.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Collection, Iterator, Mapping
from contextlib import contextmanager

from rellum.core.feed.feed_index import FeedFault, Index
from rellum.core.feed.metadata import TorrentOffer, VersionEntry
from rellum.core.feed.reading import (
    BundleReader,
    FeedReader,
    FeedUnreachable,
    FolderReader,
    NotInFeed,
    Range,
)
from rellum.core.feed.torrents import objects_of, read_torrent
from rellum.core.fetching.swarm_session import (
    SETTINGS,
    ReadTorrent,
    SwarmSession,
    SwarmSettings,
    can_swarm,
)


class SwarmReader(FeedReader):
    """Reads what a version's torrent has from its swarm, and all else as another reader does.

    ``received`` and ``requests`` go on counting what the other reader counted. ``folder`` is where pieces are
    kept meanwhile.
    """

    def __init__(
        self,
        inner: FeedReader,
        offer: TorrentOffer,
        allowed: Mapping[str, int],
        folder: str,
        settings: SwarmSettings,
    ) -> None:
        super().__init__()
        self.received, self.requests = inner.received, inner.requests
        self._inner, self._offer, self._allowed = inner, offer, allowed
        self._folder, self._settings = folder, settings
        self._torrent: ReadTorrent | None = None
        self._session: SwarmSession | None = None
        self._gave_up = False

    def will_read(self, ranges: Collection[Range]) -> None:
        """Let the pieces come, in whatever order others have them, if it is much. Raises FeedFault."""
        size = sum(each.size for each in ranges if each.name in self._allowed)
        if size < self._settings.least or self._gave_up:
            return
        if self._torrent is None:
            try:
                self._torrent = self._offered()
                self._session = SwarmSession(self._torrent, self._folder, self._settings)
            except (NotInFeed, FeedUnreachable, RuntimeError):
                self._gave_up = True
                return
        if self._session is not None:
            self._session.want(
                sorted({number for each in ranges for number in self._torrent.pieces_of(*each)})
            )

    def _offered(self) -> ReadTorrent:
        """Return the version's torrent, verified. Raises FeedFault, and what reading can raise."""
        offer = self._offer
        content = self.read(offer.file, offer.size, size=offer.size)
        if hashlib.sha256(content).hexdigest() != offer.sha256:
            raise FeedFault("the feed's torrent is not what its curator signed")
        return read_torrent(content, self._allowed)

    def _stream(self, name: str, start: int, size: int | None) -> Iterator[bytes]:
        came = 0
        part = self._torrent.parts.get(name) if self._torrent else None
        if part is not None and self._session is not None and not self._gave_up:
            wanted = part.size - start if size is None else size
            for content in self._session.read(name, start, wanted):
                came += len(content)
                self.from_swarm += len(content)
                yield content
            if came == wanted:
                self.requests -= 1  # the feed's server had none
                return
            self._gave_up = True
        left = None if size is None else size - came
        yield from self._inner.stream(name, start + came, left)

    def close(self) -> None:
        """Leave the swarm."""
        if self._session is not None:
            self._session.close()


@contextmanager
def swarmed(
    reader: FeedReader,
    entry: VersionEntry | None,
    index: Index,
    work: str,
    settings: SwarmSettings = SETTINGS,
) -> Iterator[FeedReader]:
    """Give a reader that uses the swarm of a version, if it has one and libtorrent is installed.

    As long as it is open, what came is handed on to others. ``work`` is a folder for it.
    """
    is_here = isinstance(reader, FolderReader | BundleReader)
    if entry is None or entry.torrent is None or is_here or not can_swarm():
        yield reader
        return
    allowed = objects_of(entry, index)
    swarm = SwarmReader(reader, entry.torrent, allowed, os.path.join(work, "swarm"), settings)
    try:
        yield swarm
    finally:
        swarm.close()
