"""A torrent of a version's objects: hybrid (BEP 3 and 52), with the feed's own web server as seed (BEP 19).

libtorrent makes it, and reads it, here; it is an extra, and nothing else of a feed needs it.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterable, Mapping
from typing import Final, NamedTuple
from urllib.parse import unquote, urlsplit

from rellum.core.feed.feed_index import FeedFault, Index
from rellum.core.feed.metadata import VersionEntry
from rellum.core.fetching.swarm_session import (
    NoTorrent,
    ReadTorrent,
    StrangeTorrent,
    library,
    load,
)

_LEAST_PIECE: Final = 64 << 10
_MOST_PIECE: Final = 4 << 20
_PIECES: Final = 4096
"""About so many pieces a torrent has: more make it large, fewer make a swarm slow."""


class TorrentPlace(NamedTuple):
    """Where a feed is met: under which address a web server has it, and which trackers know its players."""

    web_address: str
    trackers: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """The torrent's name: the last part of the address, to which a web seed adds it again.

        Raises NoTorrent.
        """
        parts = urlsplit(self.web_address)
        name = unquote(parts.path.rstrip("/").rpartition("/")[2])
        if parts.scheme not in ("http", "https") or not parts.netloc or name in ("", ".", ".."):
            raise NoTorrent(
                f"{self.web_address} is no web address of a folder",
                hint="Under which address do players reach the feed? --torrent https://HOST/FOLDER",
            )
        return name

    def check(self) -> None:
        """Make sure that a torrent can be made with this. Raises NoTorrent."""
        library()
        for tracker in self.trackers:
            if urlsplit(tracker).scheme not in ("http", "https", "udp", "wss"):
                raise NoTorrent(
                    f"{tracker} is no tracker's address",
                    hint="It begins with https://, http:// or udp://.",
                )
        assert self.name

    @property
    def above(self) -> str:
        """The address of the folder above."""
        return self.web_address.rstrip("/").rpartition("/")[0] + "/"


def make_torrent(folder: str, names: Iterable[str], place: TorrentPlace) -> bytes:
    """Return a torrent of these objects of a feed in a folder; the same objects give the same bytes.

    Raises NoTorrent, OSError.
    """
    lt = library()
    sizes = {
        name: os.path.getsize(os.path.join(folder, *name.split("/"))) for name in sorted(names)
    }
    entries = [lt.create_file_entry(f"{place.name}/{name}", size) for name, size in sizes.items()]
    made = lt.create_torrent(
        entries, _piece_size(sum(sizes.values())), lt.create_torrent.canonical_files
    )
    made.set_creation_date(0)
    made.add_url_seed(place.above)
    for tier, tracker in enumerate(place.trackers):
        made.add_tracker(tracker, tier)
    with tempfile.TemporaryDirectory(prefix="torrent-", dir=folder) as work:
        for name in sizes:
            target = os.path.join(work, place.name, *name.split("/"))
            os.makedirs(os.path.dirname(target), exist_ok=True)
            _link(os.path.join(folder, *name.split("/")), target)
        try:
            lt.set_piece_hashes(made, work)
        except RuntimeError as error:
            raise OSError(f"the torrent could not be made: {error}") from error
    return bytes(lt.bencode(made.generate()))


def _link(source: str, target: str) -> None:
    """Give a file a second name, or make a copy where the file system has no links."""
    try:
        os.link(source, target)
    except OSError:
        shutil.copyfile(source, target)


def _piece_size(size: int) -> int:
    piece = _LEAST_PIECE
    while piece < _MOST_PIECE and piece * _PIECES < size:
        piece *= 2
    return piece


def objects_of(entry: VersionEntry, index: Index) -> dict[str, int]:
    """Return the objects of a version that a torrent may have, with their sizes in bytes."""
    packs = {f"packs/{each.name}.pack": each.size for each in index.packs}
    return packs | {f"deltas/{each.name}.delta": each.size for each in entry.deltas}


def read_torrent(content: bytes, allowed: Mapping[str, int]) -> ReadTorrent:
    """Read the torrent of a feed; it may have only objects of its version. Raises FeedFault, NoTorrent."""
    try:
        return load(content, allowed)
    except StrangeTorrent as error:
        raise FeedFault(f"the feed's torrent is not what it should be: {error}") from error
