"""A torrent's swarm, by libtorrent: pieces are wanted, come from whoever has them, and are checked.

libtorrent is an extra; whoever has it not gets the same from the web seed by plain HTTP.
"""

from __future__ import annotations

import os
import time
from collections.abc import Collection, Iterator, Mapping
from typing import Any, Final, NamedTuple

from rellum.core.errors import UserError

_LIMITS: Final = {"max_pieces": 1 << 20, "max_decode_depth": 40, "max_decode_tokens": 1 << 22}
_WAIT_MILLISECONDS: Final = 200
_WANTED: Final = 4


_SESSION: Final = {
    "allow_multiple_connections_per_ip": True,  # players of one household
    # Between two ranges nothing is wanted, and whoever has all is needed again at once.
    "close_redundant_connections": False,
    "urlseed_wait_retry": 1,
    "min_reconnect_time": 2,
    # All begin together: each shall ask the web seed for something else, and soon pass it on.
    "urlseed_max_request_bytes": 512 << 10,
    "urlseed_pipeline_size": 2,
    "auto_sequential": False,
    "request_queue_time": 1,
    "unchoke_slots_limit": 40,
    # Leaving by uTP takes many seconds.
    "enable_outgoing_utp": False,
    "enable_incoming_utp": False,
    "stop_tracker_timeout": 1,
}
"""What we ask of libtorrent; measured with twenty players on one machine."""


class NoTorrent(UserError):
    """A torrent cannot be made or used: libtorrent is not installed, or an address has no folder."""

    code = "no-torrent"


class SwarmSettings(NamedTuple):
    """How a swarm is used: for no less than ``least`` bytes, given up after ``patience`` seconds of nothing.

    ``meets_strangers``: whether other players are looked for without a tracker, too.
    """

    least: int = 4 << 20
    patience: float = 15
    meets_strangers: bool = True


SETTINGS: Final = SwarmSettings()
"""What is smaller comes sooner by plain requests than other players are found."""


class Part(NamedTuple):
    """A file in a torrent: where it begins among all pieces, and its size, in bytes."""

    offset: int
    size: int


class ReadTorrent(NamedTuple):
    """A torrent as libtorrent takes it, with its files by path. A ``piece`` has so many bytes."""

    parameters: Any
    piece: int
    parts: Mapping[str, Part]

    def pieces_of(self, path: str, start: int, size: int) -> range:
        """Return the numbers of the pieces that hold a part of a file."""
        if not size or path not in self.parts:
            return range(0)
        begin = self.parts[path].offset + start
        return range(begin // self.piece, (begin + size - 1) // self.piece + 1)


class StrangeTorrent(ValueError):
    """A torrent cannot be read, or has something that it may not have."""


def can_swarm() -> bool:
    """Whether libtorrent is installed."""
    from importlib.util import find_spec

    return find_spec("libtorrent") is not None


def library() -> Any:
    """Return libtorrent. Raises NoTorrent."""
    try:
        import libtorrent
    except ImportError as error:
        raise NoTorrent(
            f"torrents need a package that is not there: {error}",
            hint="Install it: pip install 'rellum[swarm]'",
        ) from error
    return libtorrent


def load(content: bytes, allowed: Mapping[str, int]) -> ReadTorrent:
    """Read a torrent that may have only these files, of these sizes in bytes, by their paths below its name.

    A single file is called as the torrent is. Raises StrangeTorrent, NoTorrent.
    """
    lt = library()
    try:
        parameters = lt.load_torrent_buffer(content, _LIMITS)
        info = parameters.ti
        layout = info.layout()
    except (RuntimeError, ValueError, UnicodeError) as error:
        raise StrangeTorrent(f"it cannot be read ({error})") from error
    parts = {}
    for number in range(layout.num_files()):
        flags = layout.file_flags(number)
        if flags & layout.flag_pad_file:
            continue
        path = layout.file_path(number).replace(os.sep, "/")
        name, size = path.removeprefix(f"{info.name()}/"), layout.file_size(number)
        if flags & layout.flag_symlink or allowed.get(name) != size or "/" in info.name():
            raise StrangeTorrent(f"it has something else than it may: {path}")
        parts[name] = Part(layout.file_offset(number), size)
    return ReadTorrent(parameters, info.piece_length(), parts)


class SwarmSession:
    """A swarm that was joined; as long as it is open, what came is handed on to others.

    ``folder`` is where pieces are kept; those that are there already are used. Raises RuntimeError where
    libtorrent cannot work.
    """

    def __init__(self, torrent: ReadTorrent, folder: str, settings: SwarmSettings) -> None:
        lt = library()
        parameters, flags, alerts = torrent.parameters, lt.torrent_flags, lt.alert.category_t
        parameters.save_path = folder
        parameters.flags &= ~(flags.paused | flags.auto_managed)
        parameters.flags |= flags.default_dont_download
        meets = settings.meets_strangers
        self._torrent, self._patience = torrent, settings.patience
        meeting = dict.fromkeys(("enable_lsd", "enable_upnp", "enable_natpmp"), meets)
        self._session = lt.session(
            {
                **_SESSION,
                **meeting,
                "enable_dht": meets and not parameters.trackers,
                "alert_mask": alerts.storage_notification | alerts.error_notification,
            }
        )
        self._handle = self._session.add_torrent(parameters)

    def want(self, pieces: Collection[int]) -> None:
        """Let pieces come, in whatever order others have them."""
        self._handle.prioritize_pieces([(piece, _WANTED) for piece in pieces])

    def read(self, path: str, start: int, size: int) -> Iterator[bytes]:
        """Yield a part of a file in order, as far as it comes."""
        at, left = self._torrent.parts[path].offset + start, size
        for number in self._torrent.pieces_of(path, start, size):
            content = self._piece(number)
            if content is None:
                return
            begin = at - number * self._torrent.piece
            wanted = content[begin : begin + left]
            at, left = at + len(wanted), left - len(wanted)
            yield wanted

    def _piece(self, number: int) -> bytes | None:
        """Return a piece that was checked; None where nothing has come for too long, or the disk fails."""
        self.want([number])
        moved, came, is_asked = time.monotonic(), -1, False
        while True:
            if not is_asked and self._handle.have_piece(number):
                self._handle.read_piece(number)
                is_asked = True
            self._session.wait_for_alert(_WAIT_MILLISECONDS)
            for alert in self._session.pop_alerts():
                kind = type(alert).__name__
                if kind == "read_piece_alert" and alert.piece == number:
                    return bytes(alert.buffer) if alert.size else None
                if kind in ("file_error_alert", "torrent_error_alert"):
                    return None
            before, came = came, self._handle.status().total_payload_download
            if came != before:
                moved = time.monotonic()
            elif time.monotonic() - moved > self._patience:
                return None

    def close(self) -> None:
        """Leave the swarm."""
        self._handle = self._session = None
