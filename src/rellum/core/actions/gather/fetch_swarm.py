"""What of a line-up's missing files torrents have: their addresses, and the files themselves from a swarm."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator, Sequence
from contextlib import closing, suppress

from rellum.core.composing.needed import NeededFile
from rellum.core.fetching.metalink import ListedFile
from rellum.core.fetching.model import FetchListener, FetchProgress, FileProgress
from rellum.core.fetching.swarm_session import (
    SETTINGS,
    ReadTorrent,
    StrangeTorrent,
    SwarmSession,
    SwarmSettings,
    can_swarm,
    load,
)
from rellum.core.fetching.torrent_file import Torrent, TorrentEntry
from rellum.core.hashing import hash_bytes
from rellum.core.notices import note


def listed_in(torrent: Torrent) -> tuple[ListedFile, ...]:
    """Return the files of a torrent, with the addresses of its web seeds."""
    return tuple(
        ListedFile(name=_name(torrent, each), size=each.size, urls=torrent.addresses(each))
        for each in torrent.entries
    )


def _name(torrent: Torrent, entry: TorrentEntry) -> str:
    return (entry.path or torrent.name).rpartition("/")[2]


def from_swarms(
    torrents: Sequence[Torrent],
    missing: Sequence[NeededFile],
    folder: str,
    listen: FetchListener,
    settings: SwarmSettings = SETTINGS,
) -> Iterator[tuple[NeededFile, str]]:
    """Yield missing files that torrents have by name and size, each with where it lies now.

    Nothing, where libtorrent is not installed. What did not come is left for other ways; what came of it is
    kept in ``folder``. Whoever gets a file moves it away. Raises OSError.
    """
    left = list(missing)
    for torrent in torrents if can_swarm() else ():
        wanted = [(each, entry) for each in left if (entry := _entry_of(torrent, each))]
        if not wanted:
            continue
        own = os.path.join(folder, f"swarm-{hash_bytes(torrent.content)[:16]}")
        try:
            read = load(torrent.content, _files(torrent))
            with closing(SwarmSession(read, own, settings)) as session:
                for each, path in _brought(read, session, torrent, wanted, own, listen):
                    left.remove(each)
                    yield each, path
        except (StrangeTorrent, RuntimeError) as error:
            note(f"not from the swarm of {torrent.name}: {error}")
            continue
        if not any(each in left for each, _ in wanted):
            shutil.rmtree(own, ignore_errors=True)


def _files(torrent: Torrent) -> dict[str, int]:
    return {each.path or torrent.name: each.size for each in torrent.entries}


def _entry_of(torrent: Torrent, needed: NeededFile) -> TorrentEntry | None:
    """Return the one file of a torrent that has a missing one's name, and its size where that is known."""
    file = needed.file
    same = [each for each in torrent.entries if _name(torrent, each) == file.name]
    fitting = [each for each in same if file.size in (None, each.size)]
    return fitting[0] if len(fitting) == 1 else None


def _brought(
    read: ReadTorrent,
    session: SwarmSession,
    torrent: Torrent,
    wanted: Sequence[tuple[NeededFile, TorrentEntry]],
    own: str,
    listen: FetchListener,
) -> Iterator[tuple[NeededFile, str]]:
    for _, entry in wanted:
        session.want(read.pieces_of(entry.path or torrent.name, 0, entry.size))
    for each, entry in wanted:
        target = f"{own}.file"
        came = 0
        with open(target, "wb") as file:
            for content in session.read(entry.path or torrent.name, 0, entry.size):
                file.write(content)
                came += len(content)
                state = FileProgress(
                    name=each.file.name, state="fetching", done=came, total=entry.size
                )
                listen(FetchProgress(files=(state,)))
        if came == entry.size:
            yield each, target
        else:
            note(f"not from the swarm of {torrent.name}: {each.file.name}: nothing came any more")
        with suppress(FileNotFoundError):
            os.unlink(target)
